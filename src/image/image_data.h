// SPDX-License-Identifier: MIT
// What the readers fill in.
#ifndef LUCID_IMAGE_IMAGE_DATA_H
#define LUCID_IMAGE_IMAGE_DATA_H

#include "lucid/image.h"

namespace lucid {

struct Image::Data {
  std::string name;
  bool elf = false;
  std::uint16_t machine = 0;
  std::string chip, core;
  DebugForm debug = DebugForm::kNone;
  std::vector<Segment> segments;
  std::vector<Symbol> symbols;
  std::vector<std::uint8_t> file;
};

namespace image {

/// Where a linker's flat address is, by the conventions of the machine's ABI.
Address placed(std::uint16_t machine, std::uint32_t flat);

Result<void> read_elf(Image::Data& data);
Result<void> read_hex(Image::Data& data);

}  // namespace image
}  // namespace lucid

#endif  // LUCID_IMAGE_IMAGE_DATA_H
