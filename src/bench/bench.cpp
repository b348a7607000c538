// SPDX-License-Identifier: MIT
// Reads bench files. The only file that knows TOML.
#include "lucid/bench.h"

#include <fmt/format.h>

#include <algorithm>
#include <stdexcept>

// This parser asserts what some broken input does not keep, and takes it for granted where
// assertions are off. Here each is an error of the file.
#undef NDEBUG
#define TOML_ASSERT(expr) \
  (static_cast<bool>(expr) ? void() : throw std::logic_error("this is not TOML"))
#pragma GCC diagnostic push  // where it is noexcept, an assertion still aborts
#ifdef __clang__
#pragma GCC diagnostic ignored "-Wexceptions"
#else
#pragma GCC diagnostic ignored "-Wterminate"
#endif
#include <toml++/toml.h>
#pragma GCC diagnostic pop

#include "base/text.h"
#include "bench/kinds.h"

namespace lucid {
namespace {

using bench::Input;
using bench::Keys;
using bench::Setting;
using bench::Table;

/// The first line with letters beyond ASCII outside a line of comment, or 0: some of them lead the
/// parser astray.
unsigned stray_line(std::string_view text) {
  unsigned line = 0;
  while (!text.empty()) {
    ++line;
    const std::size_t end = std::min(text.find('\n'), text.size());
    const std::string_view row = base::trim(text.substr(0, end));
    text.remove_prefix(std::min(end + 1, text.size()));
    const bool comment = !row.empty() && row[0] == '#';
    const auto beyond = [](char c) { return static_cast<unsigned char>(c) >= 0x80; };
    if (!comment && std::any_of(row.begin(), row.end(), beyond)) return line;
  }
  return 0;
}

class Reader {
 public:
  Reader(std::string name, std::string folder)
      : name_(std::move(name)), around_{std::move(folder)} {}

  Result<Bench> read(std::string_view text) {
    if (const unsigned line = stray_line(text); line != 0)
      return fail(ErrorCode::kBadImage, "letters beyond ASCII belong into lines of comment",
                  "in a text write \\u00b0 and so on", fmt::format("{}, line {}", name_, line));
    toml::table root;
    try {
      root = toml::parse(text);
    } catch (const toml::parse_error& error) {
      return fail(ErrorCode::kBadImage, std::string(error.description()), "",
                  fmt::format("{}, line {}", name_, error.source().begin.line));
    } catch (const std::logic_error& error) {
      return fail(ErrorCode::kBadImage, error.what(), "docs/bench.md has an example", name_);
    }
    for (const auto& [key, node] : root) {
      Result<void> done;
      if (key == "chip")
        done = each(node, "chip", &Reader::chip);
      else if (key == "part")
        done = each(node, "part", &Reader::part);
      else if (key == "input")
        done = each(node, "input", &Reader::input);
      else
        done =
            fail(ErrorCode::kBadImage, fmt::format("there is no table '{}' in a bench", key.str()),
                 base::did_you_mean(key.str(), {"chip", "part", "input"}),
                 fmt::format("{}, line {}", name_, node.source().begin.line));
      if (!done) return fail(done.error());
    }
    if (auto done = find_named(); !done) return fail(done.error());
    std::stable_sort(inputs_.begin(), inputs_.end(),
                     [](const Input& a, const Input& b) { return a.at < b.at; });
    if (!inputs_.empty()) bench_.chip.parts.push_back(bench::timed_inputs(std::move(inputs_)));
    return std::move(bench_);
  }

 private:
  Result<void> each(const toml::node& node, const char* kind,
                    Result<void> (Reader::*reader)(Keys&)) {
    if (const toml::table* table = node.as_table()) return one(*table, kind, reader);
    const toml::array* list = node.as_array();
    if (list == nullptr || !list->is_homogeneous<toml::table>())
      return fail(ErrorCode::kBadImage,
                  fmt::format("'{}' must be a table: [{}] or [[{}]]", kind, kind, kind), "",
                  fmt::format("{}, line {}", name_, node.source().begin.line));
    for (const toml::node& entry : *list)
      if (auto done = one(*entry.as_table(), kind, reader); !done) return done;
    return {};
  }

  Result<void> one(const toml::table& from, const char* kind,
                   Result<void> (Reader::*reader)(Keys&)) {
    Table table{kind, from.source().begin.line, {}};
    for (const auto& [key, node] : from) {
      Setting setting;
      setting.line = node.source().begin.line;
      if (const auto text = node.value_exact<std::string>()) {
        setting.value = *text;
      } else if (const auto number = node.value_exact<std::int64_t>()) {
        setting.value = *number;
      } else if (const auto real = node.value_exact<double>()) {
        setting.value = *real;
      } else if (const auto flag = node.value_exact<bool>()) {
        setting.value = *flag;
      } else {
        std::vector<std::string> list;
        if (const toml::array* array = node.as_array())
          for (const toml::node& entry : *array)
            list.push_back(entry.value<std::string>().value_or(""));
        setting.value = list;
      }
      table.settings.emplace(std::string(key.str()), setting);
    }
    Keys keys(table, name_);
    if (auto done = (this->*reader)(keys); !done) return done;
    return keys.finish();
  }

  Result<void> chip(Keys& keys) {
    Chip::Options& chip = bench_.chip;
    bench_.names_chip = keys.has("name");
    bench_.names_clock = keys.has("clock");
    chip.name = keys.text("name", chip.name);
    if (bench_.names_clock) chip.clock_hz = keys.hertz("clock");
    chip.supply = keys.microvolts("supply", "5V");
    chip.external_ram = static_cast<std::uint32_t>(keys.number("external_ram", 0, 65536, 0));
    if (!keys.has("fuses")) return {};
    const std::vector<std::string> fuses = keys.texts("fuses");
    std::array<std::uint8_t, 3> bytes{};
    bool good = fuses.size() == 3;
    for (unsigned i = 0; good && i < 3; ++i) {
      const auto value = base::parse_unsigned(fuses[i]);
      good = value && *value < 256;
      if (good) bytes[i] = static_cast<std::uint8_t>(*value);
    }
    if (!good) keys.wrong("fuses", R"(must be low, high and extended: ["0xff", "0xd9", "0xff"])");
    chip.fuses = bytes;
    return {};
  }

  Result<void> part(Keys& keys) {
    std::vector<std::string> names;
    for (const bench::Kind& kind : bench::kinds()) names.emplace_back(kind.name);
    const std::string name = keys.text("name");
    const unsigned kind = keys.choice("kind", names);
    auto made = bench::kinds()[kind].make(name, keys, around_);
    if (auto done = keys.finish(); !done) return done;
    bench_.chip.parts.push_back(std::move(made));
    return {};
  }

  /// `hex = "4b 0a"`
  static std::string bytes_of(Keys& keys) {
    std::string out;
    const std::string text = keys.text("hex");
    for (std::size_t at = 0; at < text.size();) {
      if (text[at] == ' ') {
        ++at;
        continue;
      }
      const auto byte = base::parse_unsigned("0x" + text.substr(at, 2));
      if (!byte || at + 1 >= text.size()) {
        keys.wrong("hex", "must be bytes of two digits, such as \"4b 0a\"");
        break;
      }
      out += static_cast<char>(*byte);
      at += 2;
    }
    return out;
  }

  Result<void> input(Keys& keys) {
    Input input;
    input.at = keys.picoseconds("at");
    if (keys.has("serial")) {
      input.serial = keys.text("serial");
      if (keys.has("hex")) {
        input.bytes = bytes_of(keys);
      } else if (keys.has("frame")) {
        const auto frame = parse_serial_frame(keys.text("frame"));
        if (!frame) keys.wrong("frame", "must be such as \"0x141\" or \"0x41 wrong-parity\"");
        input.frame = frame.value_or(SerialFrame{});
      } else {
        input.bytes = keys.text("text");
      }
    } else if (keys.has("reset")) {
      input.reset = keys.choice("reset", {"external"}) == 0;
    } else if (keys.has("transfer")) {
      const auto transfer = parse_two_wire_transfer(keys.text("transfer"));
      if (!transfer) keys.wrong("transfer", "must be such as \"0x29 write 01 02 read 2\"");
      input.transfer = transfer.value_or(TwoWireTransfer{});
    } else if (keys.has("part")) {
      input.part = keys.text("part");
      input.action = std::array{"press", "release",
                                "turn"}[keys.choice("action", {"press", "release", "turn"})];
      if (input.action == "turn") input.value = keys.text("value");
      named_.emplace_back(input.part, keys.line());
    } else {
      input.pin = keys.text("pin");
      if (keys.has("volts")) {
        input.microvolts = keys.microvolts("volts");
      } else {
        const unsigned level = keys.choice("level", {"open", "low", "high"});
        if (level != 0) input.level = level == 2;
      }
    }
    inputs_.push_back(std::move(input));
    return {};
  }

  /// Inputs may stand before the parts they are done to.
  Result<void> find_named() const {
    std::vector<std::string> names;
    for (const auto& part : bench_.chip.parts) names.push_back(part->name());
    for (const auto& [part, line] : named_)
      if (std::find(names.begin(), names.end(), part) == names.end())
        return fail(ErrorCode::kBadImage, fmt::format("there is no part '{}'", part),
                    base::did_you_mean(part, names),
                    fmt::format("{}, line {}, input", name_, line));
    return {};
  }

  std::string name_;
  bench::Surroundings around_;
  Bench bench_;
  std::vector<Input> inputs_;
  std::vector<std::pair<std::string, std::uint32_t>> named_;  ///< parts in inputs, with the line
};

}  // namespace

Result<Bench> Bench::parse(std::string_view text, const std::string& name,
                           const std::string& folder) {
  return Reader(name, folder).read(text);
}

Result<Bench> Bench::open(const std::string& path) {
  const auto bytes = base::read_file(path);
  if (!bytes) return fail(bytes.error());
  const std::size_t slash = path.rfind('/');
  return parse(std::string(bytes->begin(), bytes->end()), path,
               slash == std::string::npos ? "." : path.substr(0, slash));
}

std::vector<std::string> Bench::kinds() {
  std::vector<std::string> out;
  for (const bench::Kind& kind : bench::kinds())
    out.push_back(fmt::format("{}: {}", kind.name, kind.keys));
  return out;
}

}  // namespace lucid
