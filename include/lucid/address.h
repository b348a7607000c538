// SPDX-License-Identifier: MIT
// Addresses: a space and a 32-bit byte offset in it, on every target.
#ifndef LUCID_ADDRESS_H
#define LUCID_ADDRESS_H

#include <cstdint>

namespace lucid {

/// Which memory an address is in. On a target with one address space, kCode and kData are the same.
enum class Space : std::uint8_t {
  kCode,       ///< where instructions live (flash)
  kData,       ///< what loads and stores reach: registers, I/O and RAM
  kEeprom,     ///< non-volatile data memory
  kFuse,       ///< configuration bytes
  kLock,       ///< lock bits
  kSignature,  ///< device identification
  kNowhere,    ///< no memory: what has a value and no address
};

/// A byte in a space.
struct Address {
  Space space = Space::kCode;
  std::uint32_t offset = 0;  ///< bytes from the start of the space

  friend bool operator==(Address a, Address b) {
    return a.space == b.space && a.offset == b.offset;
  }
  friend bool operator!=(Address a, Address b) { return !(a == b); }
  friend bool operator<(Address a, Address b) {
    return a.space != b.space ? a.space < b.space : a.offset < b.offset;
  }
};

}  // namespace lucid

#endif  // LUCID_ADDRESS_H
