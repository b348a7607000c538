// SPDX-License-Identifier: MIT
// PagedMemory: bytes in copy-on-write pages, for memories that rarely change. Copying it copies
// pointers; a page's hash is worked out once for all its copies.
#ifndef LUCID_CHIP_PAGED_MEMORY_H
#define LUCID_CHIP_PAGED_MEMORY_H

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

#include "base/hash.h"

namespace lucid::chip {

class PagedMemory {
 public:
  static constexpr std::uint32_t kPageBytes = 4096;

  /// All bytes are `fill`.
  PagedMemory(std::uint32_t size, std::uint8_t fill)
      : size_(size), pages_((size + kPageBytes - 1) / kPageBytes, std::make_shared<Page>(fill)) {}

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
    std::shared_ptr<Page>& page = pages_[address / kPageBytes];
    if (page.use_count() > 1) page = std::make_shared<Page>(*page);
    page->bytes[address % kPageBytes] = value;
    page->hash.reset();
  }
  /// A copy that nothing has been written to since.
  [[nodiscard]] bool shares_all_with(const PagedMemory& other) const {
    return pages_ == other.pages_;
  }
  void hash(base::Hasher& into) const {
    for (const auto& page : pages_) {
      if (!page->hash) {
        base::Hasher hasher;
        hasher.bytes(page->bytes.data(), kPageBytes);
        page->hash = hasher.value();
      }
      into(*page->hash);
    }
  }

 private:
  struct Page {
    explicit Page(std::uint8_t fill) { bytes.fill(fill); }
    std::array<std::uint8_t, kPageBytes> bytes{};
    std::optional<std::uint64_t> hash;
  };
  std::uint32_t size_;
  std::vector<std::shared_ptr<Page>> pages_;
};

}  // namespace lucid::chip

#endif  // LUCID_CHIP_PAGED_MEMORY_H
