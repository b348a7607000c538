// SPDX-License-Identifier: MIT
#include "lucid/image.h"

#include <algorithm>
#include <string_view>

#include "base/text.h"
#include "image/elf_form.h"
#include "image/image_data.h"

namespace lucid {

namespace image {

Address placed(std::uint16_t machine, std::uint32_t flat) {
  const ElfForm* form = find_elf_form(machine);
  return form != nullptr ? form->placed(flat) : Address{Space::kCode, flat};
}

}  // namespace image

Result<Image> Image::parse(std::vector<std::uint8_t> bytes, const std::string& name) {
  auto data = std::make_shared<Data>();
  data->name = name;
  data->file = std::move(bytes);
  const auto& file = data->file;
  Result<void> read;
  constexpr std::uint8_t kMagic[] = {0x7f, 'E', 'L', 'F'};
  const auto text = std::find_if(file.begin(), file.end(),
                                 [](std::uint8_t c) { return c != ' ' && c != '\r' && c != '\n'; });
  if (file.size() >= 4 && std::equal(kMagic, kMagic + 4, file.begin())) {
    data->elf = true;
    read = image::read_elf(*data);
  } else if (text != file.end() && *text == ':') {
    read = image::read_hex(*data);
  } else {
    return fail(ErrorCode::kBadImage,
                file.empty() ? "the file is empty" : "neither an ELF file nor Intel HEX",
                "give the linked program, such as main.elf", name);
  }
  if (!read) {
    Error error = read.error();
    error.where = error.where.empty() ? name : name + ", " + error.where;
    return fail(std::move(error));
  }
  Image image;
  image.data_ = std::move(data);
  return image;
}

Result<Image> Image::open(const std::string& path) {
  auto bytes = base::read_file(path);
  if (!bytes) return fail(bytes.error());
  return parse(std::move(*bytes), path);
}

const std::string& Image::name() const { return data_->name; }
bool Image::is_elf() const { return data_->elf; }
std::uint16_t Image::machine() const { return data_->machine; }
const std::string& Image::chip() const { return data_->chip; }
const std::string& Image::core() const { return data_->core; }
DebugForm Image::debug_form() const { return data_->debug; }
const std::vector<Segment>& Image::segments() const { return data_->segments; }
const std::vector<Symbol>& Image::symbols() const { return data_->symbols; }
const std::vector<std::uint8_t>& Image::file() const { return data_->file; }

}  // namespace lucid
