// SPDX-License-Identifier: MIT
// Image: what a toolchain built, as bytes with addresses. ELF and Intel HEX.
#ifndef LUCID_IMAGE_H
#define LUCID_IMAGE_H

#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "lucid/address.h"
#include "lucid/error.h"

namespace lucid {

/// Bytes to be programmed into a memory.
struct Segment {
  Address address;
  std::vector<std::uint8_t> bytes;
};

/// A name the linker knew.
struct Symbol {
  enum class Kind : std::uint8_t { kFunction, kObject, kOther } kind = Kind::kOther;
  std::string name;
  Address address;
  std::uint32_t size = 0;  ///< bytes; 0 if the image does not say
  bool global = false;     ///< neither local to its file nor weak
};

/// What the image tells about its source.
enum class DebugForm : std::uint8_t {
  kDwarf,
  kStabs,  ///< the compiler's old default: functions and lines only
  kNone,
};

/// An immutable program image. Copies share their bytes.
class LUCID_API Image {
 public:
  /// Reads ELF or Intel HEX from memory; `name` is for messages. Errors: kBadImage, with what is
  /// wrong, where, and how to build one that works.
  static Result<Image> parse(std::vector<std::uint8_t> bytes, const std::string& name);
  /// The same from a file of at most 64 MiB. Errors: also kNotFound, kIo.
  static Result<Image> open(const std::string& path);

  [[nodiscard]] const std::string& name() const;
  [[nodiscard]] bool is_elf() const;
  /// ELF's e_machine; 0 for Intel HEX, which does not say.
  [[nodiscard]] std::uint16_t machine() const;
  /// The chip that the toolchain noted in the image; empty if it did not.
  [[nodiscard]] const std::string& chip() const;
  /// The family of processors it was built for, as the toolchain names it (`avr5`); empty if that
  /// is not known.
  [[nodiscard]] const std::string& core() const;
  [[nodiscard]] DebugForm debug_form() const;
  [[nodiscard]] const std::vector<Segment>& segments() const;
  [[nodiscard]] const std::vector<Symbol>& symbols() const;
  /// The file itself, for the reader of debug information.
  [[nodiscard]] const std::vector<std::uint8_t>& file() const;

  struct Data;  ///< for the readers

 private:
  std::shared_ptr<const Data> data_;
};

}  // namespace lucid

#endif  // LUCID_IMAGE_H
