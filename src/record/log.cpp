// SPDX-License-Identifier: MIT
#include "record/log.h"

#include <fmt/format.h>

#include <charconv>
#include <nlohmann/json.hpp>

namespace lucid::record {
namespace {

using Json = nlohmann::ordered_json;
using machine::Edit;

constexpr const char* kKinds[] = {"poke", "store", "register", "place", "raise"};
constexpr const char* kSpaces[] = {"code", "data", "eeprom", "fuse", "lock", "signature"};

/// JSON's numbers end at 53 bits, its texts are UTF-8.
std::string hex(std::uint64_t value) { return fmt::format("{:x}", value); }
std::string hex(const std::string& bytes) {
  std::string out;
  for (const char byte : bytes) out += fmt::format("{:02x}", static_cast<unsigned char>(byte));
  return out;
}

Json json(const Edit& edit) {
  Json out{{"edit", kKinds[static_cast<unsigned>(edit.kind)]}};
  if (edit.kind == Edit::Kind::kRegister || edit.kind == Edit::Kind::kRaise)
    out["index"] = edit.index;
  if (edit.kind == Edit::Kind::kPoke || edit.kind == Edit::Kind::kStore) {
    out["space"] = kSpaces[static_cast<unsigned>(edit.address.space)];
    out["address"] = edit.address.offset;
  }
  out["value"] = hex(edit.value);
  return out;
}

Json json(const Act& act) {
  Json out{{"tick", hex(act.tick)}};
  if (act.standing) out["standing"] = true;
  if (act.lets_go) out["lets_go"] = true;
  for (const Edit& edit : act.edits) out["edits"].push_back(json(edit));
  const Input& input = act.input;
  if (!input.pin.empty()) out["pin"] = input.pin;
  if (input.level) out["level"] = *input.level;
  if (input.microvolts) out["microvolts"] = *input.microvolts;
  if (!input.serial.empty()) out["serial"] = input.serial;
  if (!input.bytes.empty()) out["bytes"] = hex(input.bytes);
  if (input.frame)
    out["frame"] = {{"data", input.frame->data},
                    {"wrong_parity", input.frame->wrong_parity},
                    {"no_stop_bit", input.frame->no_stop_bit}};
  if (input.transfer)
    out["transfer"] = {{"address", input.transfer->address},
                       {"write", hex({input.transfer->write.begin(), input.transfer->write.end()})},
                       {"read", input.transfer->read}};
  if (input.reset) out["reset"] = true;
  if (!input.part.empty()) out["part"] = input.part;
  if (!input.action.empty()) out["action"] = input.action;
  if (!input.value.empty()) out["value"] = input.value;
  return out;
}

/// Reads members of one object; the first that is wrong is told.
class Reader {
 public:
  Reader(const Json& object, std::string where, std::optional<Error>& error)
      : object_(object), where_(std::move(where)), error_(error) {
    if (!object.is_object()) wrong("an object");
  }

  [[nodiscard]] bool has(const char* name) const {
    return object_.is_object() && object_.contains(name);
  }
  [[nodiscard]] const Json& at(const char* name) const {
    static const Json kNothing;
    return has(name) ? object_.at(name) : kNothing;
  }
  std::string text(const char* name) {
    if (!has(name)) return {};
    if (!at(name).is_string()) return wrong("a text", name), std::string();
    return at(name).get<std::string>();
  }
  bool flag(const char* name) {
    if (!has(name)) return false;
    if (!at(name).is_boolean()) return wrong("true or false", name), false;
    return at(name).get<bool>();
  }
  template <typename T>  // narrower than 64 bits
  T number(const char* name) {
    if (!has(name) || !at(name).is_number_integer()) return wrong("a whole number", name), T{};
    const auto value = at(name).get<std::int64_t>();
    if (value < static_cast<std::int64_t>(std::numeric_limits<T>::min()) ||
        value > static_cast<std::int64_t>(std::numeric_limits<T>::max()))
      return wrong("a smaller number", name), T{};
    return static_cast<T>(value);
  }
  std::uint64_t wide(const char* name) {
    const std::string digits = text(name);
    std::uint64_t value = 0;
    const auto [end, failed] =
        std::from_chars(digits.data(), digits.data() + digits.size(), value, 16);
    if (digits.empty() || failed != std::errc{} || end != digits.data() + digits.size())
      wrong("a number in hexadecimal digits", name);
    return value;
  }
  std::string bytes(const char* name) {
    const std::string digits = text(name);
    std::string out;
    for (std::size_t i = 0; i + 1 < digits.size(); i += 2) {
      unsigned value = 0;
      const char* begin = digits.data() + i;
      if (std::from_chars(begin, begin + 2, value, 16).ptr != begin + 2) wrong("bytes", name);
      out += static_cast<char>(value);
    }
    if (digits.size() % 2 != 0) wrong("bytes, of two hexadecimal digits each", name);
    return out;
  }
  template <std::size_t N>
  unsigned one_of(const char* name, const char* const (&words)[N]) {
    const std::string word = text(name);
    for (unsigned i = 0; i < N; ++i)
      if (word == words[i]) return i;
    wrong("a known word", name);
    return 0;
  }
  void wrong(const char* wanted, const char* name = nullptr) {
    if (error_) return;
    error_ = Error{ErrorCode::kUsage, fmt::format("{} should be {}", where_, wanted), "",
                   "it is as `timeline save` has written it?"};
    if (name != nullptr) error_->what = fmt::format("{} of {} should be {}", name, where_, wanted);
  }

 private:
  const Json& object_;
  std::string where_;
  std::optional<Error>& error_;
};

Moment read_moment(Reader from) { return {from.wide("tick"), from.number<std::uint32_t>("acts")}; }

Edit read_edit(Reader from) {
  Edit out;
  out.kind = static_cast<Edit::Kind>(from.one_of("edit", kKinds));
  if (out.kind == Edit::Kind::kRegister || out.kind == Edit::Kind::kRaise)
    out.index = from.number<unsigned>("index");
  if (out.kind == Edit::Kind::kPoke || out.kind == Edit::Kind::kStore) {
    out.address.space = static_cast<Space>(from.one_of("space", kSpaces));
    out.address.offset = from.number<std::uint32_t>("address");
  }
  out.value = from.wide("value");
  return out;
}

Act read_act(Reader from, const std::string& where, std::optional<Error>& error) {
  Act out;
  out.tick = from.wide("tick");
  out.standing = from.flag("standing");
  out.lets_go = from.flag("lets_go");
  if (from.has("edits") && !from.at("edits").is_array()) from.wrong("a list", "edits");
  for (const Json& edit : from.at("edits"))
    out.edits.push_back(read_edit({edit, "an edit of " + where, error}));
  Input& input = out.input;
  input.tick = out.tick;
  input.pin = from.text("pin");
  if (from.has("level")) input.level = from.flag("level");
  if (from.has("microvolts")) input.microvolts = from.number<std::int32_t>("microvolts");
  input.serial = from.text("serial");
  input.bytes = from.bytes("bytes");
  if (from.has("frame")) {
    Reader frame(from.at("frame"), "the frame of " + where, error);
    input.frame = {frame.number<std::uint16_t>("data"), frame.flag("wrong_parity"),
                   frame.flag("no_stop_bit")};
  }
  if (from.has("transfer")) {
    Reader transfer(from.at("transfer"), "the transfer of " + where, error);
    const std::string write = transfer.bytes("write");
    input.transfer = TwoWireTransfer{transfer.number<std::uint8_t>("address"),
                                     {write.begin(), write.end()},
                                     transfer.number<std::uint8_t>("read")};
  }
  input.reset = from.flag("reset");
  input.part = from.text("part");
  input.action = from.text("action");
  input.value = from.text("value");
  return out;
}

}  // namespace

std::string written(const Log& log) {
  const auto moment = [](const Moment& m) { return Json{{"tick", hex(m.tick)}, {"acts", m.acts}}; };
  const Json head{{"chip", log.chip},        {"clock_hz", log.clock_hz}, {"image", hex(log.image)},
                  {"start", hex(log.start)}, {"here", moment(log.here)}, {"end", moment(log.end)},
                  {"world", hex(log.world)}};
  std::string out = head.dump();
  out.back() = ',';
  out += "\n\"acts\":[";
  for (std::size_t i = 0; i < log.acts.size(); ++i)
    out += (i == 0 ? "\n" : ",\n") + json(log.acts[i]).dump(-1, ' ', true);
  return out + "]}\n";
}

Result<Log> read_log(const std::string& text) {
  const Json json = Json::parse(text, nullptr, false);
  if (json.is_discarded())
    return fail(ErrorCode::kUsage, "this is no saved timeline", "`timeline save FILE` writes one");
  std::optional<Error> error;
  Log out;
  Reader head(json, "the timeline", error);
  out.chip = head.text("chip");
  out.clock_hz = head.number<std::uint32_t>("clock_hz");
  out.image = head.wide("image");
  out.start = head.wide("start");
  out.world = head.wide("world");
  out.here = read_moment({head.at("here"), "here", error});
  out.end = read_moment({head.at("end"), "the end", error});
  if (!head.at("acts").is_array()) head.wrong("a list", "acts");
  if (!error)
    for (const Json& act : head.at("acts")) {
      const std::string where = fmt::format("act {}", out.acts.size() + 1);
      out.acts.push_back(read_act({act, where, error}, where, error));
      const bool late =
          out.acts.size() > 1 && out.acts.back().tick < out.acts[out.acts.size() - 2].tick;
      if (late && !error)
        error = Error{ErrorCode::kUsage, where + " is before the one before it", "", ""};
    }
  if (!error && (out.here.acts > out.acts.size() || out.end < out.here))
    error = Error{ErrorCode::kUsage, "the moment lies behind the end of the timeline", "", ""};
  if (error) return fail(std::move(*error));
  return out;
}

}  // namespace lucid::record
