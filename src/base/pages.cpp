// SPDX-License-Identifier: MIT
#include "base/pages.h"

#include <sys/mman.h>
#include <unistd.h>

#include <cstring>

namespace lucid::base {

Pattern::Pattern(std::size_t bytes, const std::function<void(void*)>& fill) : bytes_(bytes) {
  file_ = memfd_create("lucid", MFD_CLOEXEC);
  if (file_ >= 0 && ftruncate(file_, static_cast<off_t>(bytes)) == 0) {
    void* const all = mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_SHARED, file_, 0);
    if (all != MAP_FAILED) {
      fill(all);
      munmap(all, bytes);
      return;
    }
  }
  if (file_ >= 0) close(file_);
  file_ = -1;
  instead_ = std::make_unique<std::byte[]>(bytes);
  fill(instead_.get());
}

Pattern::~Pattern() {
  if (file_ >= 0) close(file_);
}

Pages::Pages(std::shared_ptr<const Pattern> pattern) : pattern_(std::move(pattern)) {
  const std::size_t bytes = pattern_->bytes_;
  if (pattern_->file_ >= 0) {
    data_ = mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_PRIVATE, pattern_->file_, 0);
    if (data_ != MAP_FAILED) return;
  }
  own_ = std::make_unique<std::byte[]>(bytes);
  data_ = own_.get();
  if (pattern_->instead_ != nullptr) {
    std::memcpy(data_, pattern_->instead_.get(), bytes);
    return;
  }
  for (std::size_t at = 0; at < bytes;) {  // it could be written once, and not be mapped again
    const ssize_t got = pread(pattern_->file_, own_.get() + at, bytes - at, static_cast<off_t>(at));
    if (got <= 0) break;
    at += static_cast<std::size_t>(got);
  }
}

Pages::~Pages() {
  if (own_ == nullptr) munmap(data_, pattern_->bytes_);
}

}  // namespace lucid::base
