// SPDX-License-Identifier: MIT
// Reads bench files.
#include "lucid/bench.h"
#include "lucid/waveform.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "base/text.h"
#include "base/toml.h"
#include "bench/kinds.h"

namespace lucid {
namespace {

using bench::Keys;
using bench::Setting;
using bench::Table;

class Reader {
 public:
  Reader(std::string name, std::string folder, std::string on)
      : name_(std::move(name)), around_{std::move(folder)}, on_(std::move(on)) {}

  Result<Bench> read(std::string_view text) {
    if (auto gathered = gather(text, name_, around_.folder); !gathered)
      return fail(gathered.error());
    // Chips first: the other tables name them.
    struct Kind {
      const char* name;
      Result<void> (Reader::*read)(Keys&);
    };
    static constexpr Kind kTables[] = {{"chip", &Reader::chip},
                                       {"companion", &Reader::companion},
                                       {"part", &Reader::part},
                                       {"input", &Reader::input},
                                       {"wire", &Reader::wire}};
    std::vector<std::string> known{"include"};
    for (const Kind& kind : kTables) {
      known.emplace_back(kind.name);
      for (const File& file : files_) {
        name_ = file.name;
        around_.folder = file.folder;
        if (const toml::node* node = file.root.get(kind.name))
          if (auto done = each(*node, kind.name, kind.read); !done) return fail(done.error());
      }
    }
    for (const File& file : files_)
      for (const auto& [key, node] : file.root)
        if (std::find(known.begin(), known.end(), key.str()) == known.end())
          return fail(ErrorCode::kBadImage,
                      fmt::format("there is no table '{}' in a bench", key.str()),
                      did_you_mean(key.str(), known),
                      fmt::format("{}, line {}", file.name, node.source().begin.line));
    if (auto done = find_named(); !done) return fail(done.error());
    return put_together();
  }

 private:
  struct File {
    std::string name, folder;
    toml::table root;
  };

  /// The tables of a file, behind those of the files it includes; each file counts once.
  Result<void> gather(std::string_view text, const std::string& name, const std::string& folder) {
    auto root = base::read_toml(text, name, ErrorCode::kBadImage, "docs/bench.md has an example");
    if (!root) return fail(root.error());
    File file{name, folder, std::move(*root)};
    const std::string self = identity(name);
    under_way_.push_back(self);
    seen_.push_back(self);
    if (const toml::node* includes = file.root.get("include"))
      if (auto done = include(*includes, file); !done) return done;
    under_way_.pop_back();
    files_.push_back(std::move(file));
    return {};
  }

  Result<void> include(const toml::node& node, const File& from) {
    const std::string where = fmt::format("{}, line {}", from.name, node.source().begin.line);
    const toml::array* list = node.as_array();
    if (list == nullptr || list->empty() || !list->is_homogeneous<std::string>())
      return fail(ErrorCode::kBadImage, "'include' must be a list of files",
                  R"(such as include = ["parts.toml"])", where);
    for (const toml::node& entry : *list) {
      const std::string path = base::in_folder(from.folder, entry.value_or(std::string()));
      const std::string self = identity(path);
      if (std::find(under_way_.begin(), under_way_.end(), self) != under_way_.end())
        return fail(ErrorCode::kBadImage, path + " is included by itself",
                    "one of the two has to stand without the other", where);
      if (std::find(seen_.begin(), seen_.end(), self) != seen_.end()) continue;
      const auto bytes = base::read_file(path);
      if (!bytes) return fail(ErrorCode::kBadImage, bytes.error().what, bytes.error().hint, where);
      const std::size_t slash = path.rfind('/');
      if (auto done =
              gather(std::string(bytes->begin(), bytes->end()), path, path.substr(0, slash));
          !done)
        return done;
    }
    return {};
  }

  /// The same for all ways to write a path.
  static std::string identity(const std::string& path) {
    std::error_code failed;
    const auto whole = std::filesystem::weakly_canonical(path, failed);
    return failed ? path : whole.string();
  }

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
      } else if (const toml::table* inner = node.as_table()) {
        Setting::Words words;
        for (const auto& [word, value] : *inner)
          words.emplace(std::string(word.str()), value.value<std::string>().value_or(""));
        setting.value = words;
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

  /// A chip with what belongs to it.
  struct Seat {
    std::string name;  ///< on the bench
    Chip::Options options;
    bool names_chip = false, names_clock = false;
    std::optional<Image> image;
    std::vector<Input> inputs;
  };

  void settings(Keys& keys, Seat& seat, const std::string& type) {
    seat.names_chip = keys.has(type);
    seat.names_clock = keys.has("clock");
    Chip::Options& chip = seat.options;
    if (keys.has("image")) {
      const std::string file = keys.text("image");
      auto image = Image::open(base::in_folder(around_.folder, file));
      if (!image)
        keys.wrong("image", "names " + file + ": " + image.error().what, image.error().hint);
      else
        seat.image = *image;
    }
    chip.name =
        keys.text(type, seat.image && !seat.image->chip().empty() ? seat.image->chip() : chip.name);
    if (seat.names_clock) chip.clock_hz = keys.hertz("clock");
    chip.supply = keys.microvolts("supply", "5V");
    chip.external_ram = static_cast<std::uint32_t>(keys.number("external_ram", 0, 65536, 0));
    if (!keys.has("fuses")) return;
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
  }

  Result<void> chip(Keys& keys) {
    if (!std::exchange(first_is_there_, true)) {
      seats_[0].name = keys.text("called", "");
      settings(keys, seats_[0], "name");
    } else {
      keys.wrong("name", "is of a second [chip]", "further chips are [[companion]]");
    }
    return {};
  }

  Result<void> companion(Keys& keys) {
    Seat seat;
    seat.name = keys.text("name");
    for (const Seat& other : seats_)
      if (other.name == seat.name) keys.wrong("name", "must be another one for each chip");
    settings(keys, seat, "chip");
    if (!seat.image) keys.wrong("image", "must name the firmware", "such as \"panel.elf\"");
    seats_.push_back(std::move(seat));
    return {};
  }

  Result<void> wire(Keys& keys) {
    const auto pins = keys.texts("pins");
    if (pins.size() < 2) keys.wrong("pins", "must be two or more: [\"PD1\", \"panel.PD0\"]");
    wires_.push_back(pins);
    return {};
  }

  /// The chip that a part or an input belongs to.
  Seat& seat_of(Keys& keys) {
    if (!keys.has("on")) return seats_[0];
    std::vector<std::string> names;
    const std::size_t first = seats_[0].name.empty() ? 1 : 0;
    for (std::size_t i = first; i < seats_.size(); ++i) names.push_back(seats_[i].name);
    if (names.empty()) keys.wrong("on", "names a chip, but there is only one without a name");
    return names.empty() ? seats_[0] : seats_[first + keys.choice("on", names)];
  }

  Result<void> part(Keys& keys) {
    std::vector<std::string> names;
    for (const bench::Kind& kind : bench::kinds()) names.emplace_back(kind.name);
    Seat& seat = seat_of(keys);
    const std::string name = keys.text("name");
    const unsigned kind = keys.choice("kind", names);
    auto made = bench::kinds()[kind].make(name, keys, around_);
    if (auto done = keys.finish(); !done) return done;
    seat.options.parts.push_back(std::move(made));
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
    Seat& seat = seat_of(keys);
    if (keys.has("from")) return capture(seat, keys);
    Input input;
    input.at = {keys.picoseconds("at")};
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
      named_.push_back({static_cast<std::size_t>(&seat - seats_.data()), input.part, keys.line()});
    } else {
      input.pin = keys.text("pin");
      if (keys.has("volts")) {
        input.microvolts = keys.microvolts("volts");
      } else {
        const unsigned level = keys.choice("level", {"open", "low", "high"});
        if (level != 0) input.level = level == 2;
      }
    }
    seat.inputs.push_back(std::move(input));
    return {};
  }

  /// A recording from elsewhere: its levels are what the pins are driven to. `at` is when its first
  /// moment comes, or the edge that `start` names.
  Result<void> capture(Seat& seat, Keys& keys) {
    const std::string path = base::in_folder(around_.folder, keys.text("from"));
    const Picoseconds at{keys.has("at") ? keys.picoseconds("at") : 0};
    const auto pins = keys.words("pins");
    std::string edge, of;
    if (keys.has("start")) {
      edge = keys.text("start");
      const std::size_t open = edge.find('(');
      if (open == std::string::npos || edge.back() != ')' ||
          (edge.compare(0, open, "first rise") != 0 && edge.compare(0, open, "first fall") != 0)) {
        keys.wrong("start", "must be such as \"first fall(PD2)\"");
      } else {
        of = edge.substr(open + 1, edge.size() - open - 2);
        edge.resize(open);
      }
    }
    if (auto done = keys.finish(); !done) return done;
    const std::string where = fmt::format("{}, line {}, input", name_, keys.line());
    const auto signals = open_waveforms(path);
    if (!signals) return fail(ErrorCode::kBadImage, signals.error().text(), "", where);
    std::vector<std::pair<const Signal*, std::string>> lines;
    for (const auto& [name, pin] : pins) {
      std::vector<std::string> names;
      const Signal* found = nullptr;
      for (const Signal& signal : *signals) {
        names.push_back(signal.name());
        if (signal.name() == name && signal.facts().kind == Signal::Kind::kLevel) found = &signal;
      }
      if (found == nullptr)
        return fail(ErrorCode::kBadImage, fmt::format("there is no level '{}' in {}", name, path),
                    did_you_mean(name, names), where);
      lines.emplace_back(found, pin);
    }
    // Where the recording begins to count.
    std::optional<std::uint64_t> zero;
    for (const auto& [signal, pin] : lines) {
      if (of != pin) continue;
      std::optional<Sample> before;
      auto samples = signal->samples();
      while (const auto sample = samples.next()) {
        const bool both = before && before->known() && sample->known();
        if (!zero && both && before->value != sample->value &&
            (sample->value != 0) == (edge == "first rise"))
          zero = signal->time(sample->tick).count;
        before = sample;
      }
    }
    if (!of.empty() && !zero)
      return fail(ErrorCode::kBadImage, fmt::format("{} has no {} on {}", path, edge.substr(6), of),
                  "`pins` says what is on which pin", where);
    for (const auto& [signal, pin] : lines) {
      auto samples = signal->samples();
      while (const auto sample = samples.next()) {
        const std::uint64_t time = signal->time(sample->tick).count;
        Input input;
        input.pin = pin;
        // What was before the start holds from power-on.
        const std::uint64_t from = zero.value_or(0);
        input.at.count = time + at.count < from ? 0 : time + at.count - from;
        if (sample->known()) input.level = sample->value != 0;
        if (!sample->known() && time == signal->time(signal->begin()).count) continue;
        if (!seat.inputs.empty() && seat.inputs.back().pin == pin && input.at.count == 0 &&
            seat.inputs.back().at.count == 0)
          seat.inputs.pop_back();
        seat.inputs.push_back(std::move(input));
      }
    }
    return {};
  }

  /// Inputs may stand before the parts they are done to.
  Result<void> find_named() const {
    for (const Named& named : named_) {
      std::vector<std::string> names;
      for (const auto& part : seats_[named.seat].options.parts) names.push_back(part->name());
      if (std::find(names.begin(), names.end(), named.part) == names.end())
        return fail(ErrorCode::kBadImage, fmt::format("there is no part '{}'", named.part),
                    did_you_mean(named.part, names),
                    fmt::format("{}, line {}, input", name_, named.line));
    }
    return {};
  }

  /// One chip is meant, the others are its companions.
  Result<Bench> put_together() {
    for (Seat& seat : seats_) {
      std::stable_sort(seat.inputs.begin(), seat.inputs.end(),
                       [](const Input& a, const Input& b) { return a.at.count < b.at.count; });
      if (!seat.inputs.empty())
        seat.options.parts.push_back(bench::timed_inputs(std::move(seat.inputs)));
    }
    std::vector<std::string> names;
    for (const Seat& seat : seats_) names.push_back(seat.name);
    std::size_t meant = 0;
    if (!on_.empty()) {
      meant = static_cast<std::size_t>(std::find(names.begin(), names.end(), on_) - names.begin());
      if (meant == seats_.size())
        return fail(ErrorCode::kNotFound, fmt::format("there is no chip '{}' on the bench", on_),
                    seats_.size() == 1 ? "it has one chip, which is meant anyway"
                                       : did_you_mean(on_, names),
                    name_);
    }
    Bench bench;
    bench.names_chip = seats_[meant].names_chip;
    bench.names_clock = seats_[meant].names_clock;
    for (std::size_t i = 0; i < seats_.size(); ++i) {
      if (i == meant) continue;
      Seat& seat = seats_[i];
      if (!seat.image || seat.name.empty())
        return fail(ErrorCode::kBadImage, "the first chip cannot be a companion of '" + on_ + "'",
                    "give [chip] the keys `called` and `image`", name_);
      seats_[meant].options.companions.push_back({seat.name, seat.options, *seat.image});
    }
    // A pin without a chip's name is the first one's; of the chip that is meant it has none.
    const std::string own = names[meant] + ".";
    for (auto& wire : wires_)
      for (std::string& pin : wire) {
        if (pin.find('.') == std::string::npos) pin.insert(0, names[0] + ".");
        if (pin.rfind(own, 0) == 0) pin = pin.substr(own.size());
      }
    bench.chip = std::move(seats_[meant].options);
    bench.chip.wires = std::move(wires_);
    return bench;
  }

  std::string name_;
  bench::Surroundings around_;
  std::string on_;
  std::vector<File> files_;  ///< in the order in which they count
  std::vector<std::string> under_way_, seen_;
  std::vector<Seat> seats_{1};
  bool first_is_there_ = false;
  std::vector<std::vector<std::string>> wires_;
  struct Named {
    std::size_t seat;
    std::string part;
    std::uint32_t line;
  };
  std::vector<Named> named_;  ///< parts in inputs
};

}  // namespace

Result<Bench> Bench::parse(std::string_view text, const std::string& name,
                           const std::string& folder, const std::string& on) {
  return Reader(name, folder, on).read(text);
}

Result<Bench> Bench::open(const std::string& path, const std::string& on, const std::string& more) {
  if (path.empty()) return parse(more, "the inputs", ".", on);
  const auto bytes = base::read_file(path);
  if (!bytes) return fail(bytes.error());
  const std::size_t slash = path.rfind('/');
  return parse(std::string(bytes->begin(), bytes->end()) + more, path,
               slash == std::string::npos ? "." : path.substr(0, slash), on);
}

std::vector<std::string> Bench::kinds() {
  std::vector<std::string> out;
  for (const bench::Kind& kind : bench::kinds())
    out.push_back(fmt::format("{}: {}", kind.name, kind.keys));
  return out;
}

}  // namespace lucid
