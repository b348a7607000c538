// SPDX-License-Identifier: MIT
// PagedMemory: bytes in copy-on-write pages, for memories that rarely change. Copying it copies
// pointers; a page's hash is worked out once for all its copies.
#ifndef LUCID_MACHINE_PAGED_MEMORY_H
#define LUCID_MACHINE_PAGED_MEMORY_H

#include <array>
#include <atomic>
#include <cstdint>
#include <utility>
#include <vector>

#include "base/hash.h"

namespace lucid::machine {

class PagedMemory {
 public:
  static constexpr std::uint32_t kPageBytes = 4096;

  /// All bytes are `fill`.
  PagedMemory(std::uint32_t size, std::uint8_t fill)
      : size_(size), pages_((size + kPageBytes - 1) / kPageBytes, Shared(new Page(fill))) {}

  [[nodiscard]] std::uint32_t size() const { return size_; }
  /// REQUIRES: address < size().
  std::uint8_t operator[](std::uint32_t address) const {
    return pages_[address / kPageBytes]->bytes[address % kPageBytes];
  }
  /// The kPageBytes bytes of a page. Good until it or a copy is written.
  [[nodiscard]] const std::uint8_t* page_of(std::uint32_t address) const {
    return pages_[address / kPageBytes]->bytes.data();
  }
  void write(std::uint32_t address, std::uint8_t value) {
    Shared& page = pages_[address / kPageBytes];
    if (!page.is_alone()) page = Shared(new Page(*page));
    page->bytes[address % kPageBytes] = value;
    page->hash = 0;
  }
  /// A copy that nothing has been written to since.
  [[nodiscard]] bool shares_all_with(const PagedMemory& other) const {
    return pages_ == other.pages_;
  }
  void hash(base::Hasher& into) const {
    for (const auto& page : pages_) {
      std::uint64_t value = page->hash.load(std::memory_order_relaxed);
      if (value == 0) {
        base::Hasher hasher;
        hasher.bytes(page->bytes.data(), kPageBytes);
        value = hasher.value();
        page->hash.store(value, std::memory_order_relaxed);
      }
      into(value);
    }
  }

 private:
  struct Page {
    explicit Page(std::uint8_t fill) { bytes.fill(fill); }
    Page(const Page& other) : bytes(other.bytes) {}
    Page& operator=(const Page&) = delete;
    ~Page() = default;
    std::array<std::uint8_t, kPageBytes> bytes{};
    std::atomic<std::uint64_t> hash{0};  ///< 0: to be worked out
    std::atomic<std::uint32_t> owners{1};
  };
  /// Copies may be used in several threads: who is alone with a page sees all that the others had
  /// done to it, which std::shared_ptr's count does not promise.
  class Shared {
   public:
    explicit Shared(Page* page) : page_(page) {}
    Shared(const Shared& other) : page_(other.page_) {
      page_->owners.fetch_add(1, std::memory_order_relaxed);
    }
    Shared(Shared&& other) noexcept : page_(std::exchange(other.page_, nullptr)) {}
    Shared& operator=(Shared other) noexcept {
      std::swap(page_, other.page_);
      return *this;
    }
    ~Shared() {
      if (page_ != nullptr && page_->owners.fetch_sub(1, std::memory_order_acq_rel) == 1)
        delete page_;
    }
    [[nodiscard]] bool is_alone() const {
      return page_->owners.load(std::memory_order_acquire) == 1;
    }
    Page* operator->() const { return page_; }
    Page& operator*() const { return *page_; }
    friend bool operator==(const Shared& a, const Shared& b) { return a.page_ == b.page_; }

   private:
    Page* page_;
  };
  std::uint32_t size_;
  std::vector<Shared> pages_;
};

}  // namespace lucid::machine

#endif  // LUCID_MACHINE_PAGED_MEMORY_H
