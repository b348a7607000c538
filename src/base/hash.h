// SPDX-License-Identifier: MIT
// A 64-bit hash of plain values, the same on every machine and build.
#ifndef LUCID_BASE_HASH_H
#define LUCID_BASE_HASH_H

#include <cstddef>
#include <cstdint>
#include <type_traits>

namespace lucid::base {

class Hasher {
 public:
  /// Mixes integers, enumerations and booleans, each as 64 bits.
  template <class... T>
  void operator()(const T&... values) {
    (mix(static_cast<std::uint64_t>(values)), ...);
  }

  void bytes(const std::uint8_t* data, std::size_t size) {
    mix(size);
    std::size_t i = 0;
    for (; i + 8 <= size; i += 8) {
      std::uint64_t word = 0;
      for (std::size_t k = 0; k < 8; ++k) word |= std::uint64_t{data[i + k]} << (8 * k);
      mix(word);
    }
    for (; i < size; ++i) mix(data[i]);
  }

  [[nodiscard]] std::uint64_t value() const {
    std::uint64_t x = state_;
    x ^= x >> 32;
    x *= 0xd6e8feb86659fd93U;
    return x ^ (x >> 32);
  }

 private:
  void mix(std::uint64_t word) {
    state_ = (state_ ^ word) * 0x9e3779b97f4a7c15U;
    state_ ^= state_ >> 29;
  }

  std::uint64_t state_ = 0x243f6a8885a308d3U;
};

}  // namespace lucid::base

#endif  // LUCID_BASE_HASH_H
