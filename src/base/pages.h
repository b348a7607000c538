// SPDX-License-Identifier: MIT
// Pages: memory that begins as a copy of a pattern and costs only the pages that are touched.
#ifndef LUCID_BASE_PAGES_H
#define LUCID_BASE_PAGES_H

#include <cstddef>
#include <functional>
#include <memory>

namespace lucid::base {

class Pattern {
 public:
  /// `fill` is called once with all of the memory, which is zero.
  Pattern(std::size_t bytes, const std::function<void(void*)>& fill);
  ~Pattern();
  Pattern(const Pattern&) = delete;
  Pattern& operator=(const Pattern&) = delete;
  [[nodiscard]] std::size_t bytes() const { return bytes_; }

 private:
  friend class Pages;
  std::size_t bytes_;
  int file_ = -1;                         ///< in memory; -1 if the system gives none
  std::unique_ptr<std::byte[]> instead_;  ///< then
};

class Pages {
 public:
  explicit Pages(std::shared_ptr<const Pattern> pattern);
  ~Pages();
  Pages(const Pages&) = delete;
  Pages& operator=(const Pages&) = delete;
  [[nodiscard]] void* data() const { return data_; }

 private:
  std::shared_ptr<const Pattern> pattern_;
  std::unique_ptr<std::byte[]> own_;  ///< where nothing could be mapped
  void* data_ = nullptr;
};

}  // namespace lucid::base

#endif  // LUCID_BASE_PAGES_H
