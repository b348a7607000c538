// SPDX-License-Identifier: MIT
// What can be traced: pins, objects that stay where they are, events.
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cstring>
#include <iterator>
#include <sstream>

#include "base/text.h"
#include "session/bytes_of.h"
#include "session/core.h"

namespace lucid {

using SourceKind = record::Source::Kind;

namespace {

constexpr std::size_t kMostBytes = 64;

/// The number of a name among others; without regard to case.
template <class List, class Name>
std::optional<std::uint32_t> place_of(const List& list, const std::string& name, Name name_of) {
  for (std::uint32_t i = 0; i < list.size(); ++i)
    if (base::equal_ignoring_case(name_of(list[i]), name)) return i;
  return std::nullopt;
}

std::uint64_t bits_of(double real) {
  std::uint64_t out = 0;
  std::memcpy(&out, &real, sizeof out);
  return out;
}

std::vector<std::string> words_of(const std::string& text) {
  std::istringstream in(text);
  return {std::istream_iterator<std::string>(in), {}};
}

/// A single's bytes, as a signal of reals has it.
Sample single(const std::vector<std::uint8_t>& bytes) {
  float real = 0;
  std::memcpy(&real, bytes.data(), std::min(bytes.size(), sizeof real));
  return {0, bits_of(real), Sample::State::kKnown};
}

}  // namespace

/// What happens, rather than what has a value. nullopt: it is something else.
std::optional<Result<Session::Core::Traceable>> Session::Core::traceable_event(
    const std::string& text, const Side& on) {
  const machine::Machine& machine = on.machine();
  const ChipInfo& info = machine.info();
  const std::vector<std::string> words = words_of(text);
  const auto is = [&](std::size_t i, const char* word) {
    return i < words.size() && base::equal_ignoring_case(words[i], word);
  };
  const auto unknown = [&](const char* what, const std::string& name,
                           const std::vector<std::string>& names) {
    return Result<Traceable>(fail(ErrorCode::kNotFound,
                                  fmt::format("there is no {} '{}' on {}", what, name, info.name),
                                  did_you_mean(name, names)));
  };
  Traceable out;
  out.facts.name = text;
  out.facts.scope = {on.name()};
  if (words.empty()) return std::nullopt;
  if (is(0, "interrupt") && words.size() <= 2) {
    out.source.kind = SourceKind::kInterrupt;
    out.facts.scope.emplace_back("interrupts");
    if (words.size() == 2) {
      const auto vector = place_of(info.vectors, words[1], [](const auto& v) { return v.name; });
      std::vector<std::string> names;
      for (const InterruptVector& v : info.vectors) names.push_back(v.name);
      if (!vector) return unknown("interrupt", words[1], names);
      out.source.numbers = {info.vectors[*vector].number};
      out.facts.names = {{0, "-"}, {1, info.vectors[*vector].name}};
      return out;
    }
    out.facts.kind = Signal::Kind::kNumber;
    out.facts.bits = 8;
    for (const InterruptVector& v : info.vectors) out.facts.names[v.number] = v.name;
    out.facts.names[0] = "-";
    return out;
  }
  if (is(0, "byte") && (is(1, "in") || is(1, "out")) && words.size() <= 3) {
    std::vector<std::string> all = info.serial_ports;
    all.insert(all.end(), info.buses.begin(), info.buses.end());
    if (all.empty())
      return Result<Traceable>(
          fail(ErrorCode::kNotFound, fmt::format("{} has no serial port", info.name)));
    const std::string port = words.size() == 3 ? words[2] : all.front();
    const auto place = place_of(all, port, [](const auto& name) { return name; });
    if (!place) return unknown("serial port or bus", port, all);
    const std::size_t ports = info.serial_ports.size();
    const bool bus = *place >= ports;
    if (is(1, "in"))
      out.source.kind = bus ? SourceKind::kBusIn : SourceKind::kByteIn;
    else
      out.source.kind = bus ? SourceKind::kBusOut : SourceKind::kByteOut;
    out.source.numbers = {static_cast<std::uint32_t>(bus ? *place - ports : *place)};
    out.facts.scope.push_back(all[*place]);
    out.facts.kind = Signal::Kind::kMoment;
    out.facts.bits = bus ? 8 : 16;
    out.facts.format.kind = bus ? Format::Kind::kHex : Format::Kind::kCharacter;
    return out;
  }
  if (words.size() == 1 && (is(0, "sleep") || is(0, "reset"))) {
    out.source.kind = is(0, "sleep") ? SourceKind::kSleep : SourceKind::kReset;
    if (is(0, "sleep")) {
      out.facts.names = {{0, "awake"}, {1, "asleep"}};
    } else {
      out.facts.kind = Signal::Kind::kMoment;
      out.facts.bits = 8;
    }
    return out;
  }
  const auto moment = place_of(info.moments, fmt::format("{}", fmt::join(words, " ")),
                               [](const auto& name) { return name; });
  if (moment) {
    out.source.kind = SourceKind::kMoment;
    out.source.numbers = {*moment};
    out.facts.kind = Signal::Kind::kMoment;
    out.facts.bits = 16;
    if (is(0, "watchdog")) {
      out.facts.bits = 32;
      out.facts.scale = 0.1;
      out.facts.unit = "%";
    }
    return out;
  }
  if (is(0, "calls") && words.size() <= 2) {
    const auto level =
        words.size() == 2 ? base::parse_unsigned(words[1]) : std::optional<std::uint64_t>(0);
    if (!level || *level > 1000 || (words.size() == 2 && *level == 0))
      return Result<Traceable>(fail(ErrorCode::kUsage,
                                    fmt::format("'{}' is no call level", words[1]),
                                    "calls 1 is the outermost, main; calls alone the innermost"));
    if (!machine.clone()->tell_calls(true))
      return Result<Traceable>(
          fail(ErrorCode::kUnsupported, fmt::format("{} does not tell of calls", info.name)));
    out.source.kind = SourceKind::kCalls;
    out.source.numbers = {static_cast<std::uint32_t>(*level)};
    out.facts.scope.emplace_back("calls");
    out.facts.kind = Signal::Kind::kNumber;
    out.facts.bits = 32;
    out.facts.names[0] = "-";
    for (const Function& function : on.program().functions())
      out.facts.names[function.begin + 1] = function.name;
    return out;
  }
  if (words.size() == 2 && is(0, "eeprom") && is(1, "write")) {
    out.source.kind = SourceKind::kEepromWrite;
    out.facts.kind = Signal::Kind::kMoment;
    out.facts.bits = 16;
    out.facts.format.kind = Format::Kind::kHex;
    return out;
  }
  if (words.size() == 2 && is(0, "voltage")) {
    const auto pin = machine.wire_pin(words[1]);
    if (!pin)
      return Result<Traceable>(fail(
          ErrorCode::kNotFound, fmt::format("there is no pin '{}' on {}", words[1], info.name)));
    out.source.kind = SourceKind::kVoltage;
    out.source.numbers = {*pin};
    out.facts.scope.emplace_back("pins");
    out.facts.kind = Signal::Kind::kNumber;
    out.facts.bits = 32;
    out.facts.is_signed = true;
    out.facts.scale = 1e-6;
    out.facts.unit = "V";
    return out;
  }
  if (is(0, "part") && (words.size() == 2 || words.size() == 3)) {
    const auto parts = machine.parts();
    const std::size_t others = machine.companions().size();
    std::vector<std::string> names;
    for (std::size_t i = others; i < parts.size(); ++i) {
      const PartState& part = parts[i];
      if (!part.quantities.empty()) names.push_back(part.name);
      if (!base::equal_ignoring_case(part.name, words[1])) continue;
      if (part.quantities.empty())
        return Result<Traceable>(fail(ErrorCode::kUnsupported,
                                      fmt::format("there is nothing to measure on '{}'", part.name),
                                      "trace its pins"));
      const std::string wanted = words.size() == 3 ? words[2] : part.quantities.front().name;
      const auto place = place_of(part.quantities, wanted, [](const auto& q) { return q.name; });
      if (!place)
        return Result<Traceable>(fail(ErrorCode::kNotFound,
                                      fmt::format("'{}' has no '{}'", part.name, wanted),
                                      "it has: " + part.quantities.front().name));
      out.source.kind = SourceKind::kQuantity;
      out.source.numbers = {static_cast<std::uint32_t>((i - others) * 256 + *place)};
      out.facts.scope = {"bench", part.name};
      out.facts.kind = Signal::Kind::kNumber;
      out.facts.bits = 32;
      out.facts.is_signed = true;
      out.facts.scale = 1e-3;
      out.facts.unit = part.quantities[*place].unit;
      return out;
    }
    return unknown("part", words[1], names);
  }
  return std::nullopt;
}

/// A pin, all pins of a port, an object that stays where it is, or several in an expression.
Result<Session::Core::Traceable> Session::Core::traceable_object(const std::string& text,
                                                                 const Side& on) {
  const machine::Machine& machine = on.machine();
  const Program& program = on.program();
  const frames::Scope& here = on.scope;
  const ChipInfo& info = machine.info();
  Traceable out;
  out.facts.name = text;
  out.facts.scope = {on.name()};
  const auto be_pins = [&](std::vector<std::uint32_t> pins) {
    out.facts.scope.emplace_back("pins");
    out.facts.bits = static_cast<std::uint8_t>(pins.size());
    out.source.numbers = std::move(pins);
  };
  if (base::equal_ignoring_case(text.substr(0, 4), "pin.")) {
    const std::string name = text.substr(4);
    std::vector<std::uint32_t> pins;
    for (const PinState& pin : machine.pins()) {
      const bool of_port = pin.name.size() == name.size() + 1 &&
                           base::equal_ignoring_case(pin.name.substr(0, name.size()), name);
      const auto number = machine.wire_pin(pin.name);
      if (!of_port || !number) continue;
      // Its last letter is its place: a port may have gaps.
      const auto place = static_cast<std::size_t>(pin.name.back() - '0');
      if (place >= 8) continue;
      if (pins.size() <= place) pins.resize(place + 1, record::Source::kNoPin);
      pins[place] = *number;
    }
    if (!pins.empty()) {
      be_pins(std::move(pins));
      out.facts.kind = Signal::Kind::kNumber;
      out.facts.format.kind = Format::Kind::kBinary;
      return out;
    }
  }
  auto expression = expression::Expression::parse(text, here);
  if (!expression) return fail(expression.error());
  auto now = expression->evaluate(here);
  if (!now) return fail(now.error());
  const frames::Place::Kind kind = now->place.kind;
  if (kind == frames::Place::Kind::kPin) {
    const auto pin = machine.wire_pin(now->place.pin);
    if (!pin) return fail(ErrorCode::kUnsupported, fmt::format("'{}' cannot be traced", text));
    be_pins({*pin});
    return out;
  }
  if (kind == frames::Place::Kind::kRegister || kind == frames::Place::Kind::kFlag)
    return fail(ErrorCode::kUnsupported,
                fmt::format("'{}' is a register of the processor: it changes at every turn", text),
                "trace a variable, an I/O register or a pin");
  if (now->value.kind == Value::Kind::kAggregate)
    return fail(ErrorCode::kUsage, fmt::format("'{}' is more than one value", text),
                "trace its members, or its elements");
  std::vector<expression::Operand> parts;
  if (kind == frames::Place::Kind::kMemory)
    parts.push_back(*now);
  else if (!expression->parts(here, parts))
    return fail(ErrorCode::kUnsupported, fmt::format("what '{}' depends on moves", text),
                "trace what stays where it is");
  const MemoryArea* ram = machine.area("ram");
  for (const expression::Operand& part : parts) {
    const auto bytes = session::bytes_of(part, program, machine);
    for (const expression::WatchedByte& byte : bytes) out.source.bytes.push_back(byte.address);
    out.source.objects.push_back(static_cast<std::uint8_t>(std::min(bytes.size(), kMostBytes)));
    const bool in_ram = !bytes.empty() && ram != nullptr && bytes[0].address.space == ram->space &&
                        bytes[0].address.offset >= ram->begin;
    if (bytes.empty() || (kind != frames::Place::Kind::kMemory && !in_ram))
      return fail(ErrorCode::kUnsupported,
                  fmt::format("only variables can be traced together in '{}'", text),
                  "trace each by itself");
  }
  if (out.source.bytes.empty())
    return fail(ErrorCode::kUsage, fmt::format("'{}' is a constant", text));
  if (out.source.bytes.size() > kMostBytes)
    return fail(ErrorCode::kOutOfRange, fmt::format("'{}' depends on too many bytes", text));
  out.source.kind = SourceKind::kBytes;
  if (out.source.bytes[0].space == Space::kCode)
    return fail(ErrorCode::kUnsupported, fmt::format("'{}' lies in flash", text));
  const Value& value = now->value;
  out.facts.kind = value.kind == Value::Kind::kReal ? Signal::Kind::kReal : Signal::Kind::kNumber;
  out.facts.bits = value.kind == Value::Kind::kReal ? 64 : value.bits;
  out.facts.is_signed = value.is_signed;
  if (kind != frames::Place::Kind::kMemory) {
    // Worked out on a copy that has these bytes.
    const std::shared_ptr<machine::Machine> copy = machine.clone();
    const auto shared = std::make_shared<expression::Expression>(std::move(*expression));
    const auto flows = std::make_shared<frames::Flows>();
    const bool real = value.kind == Value::Kind::kReal;
    out.source.work_out = [program, copy, shared, flows, real, static_end = here.static_end,
                           where = out.source.bytes](const std::vector<std::uint8_t>& bytes) {
      for (std::size_t i = 0; i < bytes.size(); ++i) copy->poke(where[i], bytes[i]);
      const frames::Scope then{program, *copy, *flows, static_end, 0, {}};
      const auto result = shared->evaluate(then);
      if (!result) return Sample{0, 0, Sample::State::kUnknown};
      return Sample{
          0, real ? bits_of(result->value.real) : static_cast<std::uint64_t>(result->value.integer),
          Sample::State::kKnown};
    };
    out.facts.scope.emplace_back("program");
    return out;
  }
  if (value.kind == Value::Kind::kReal) out.source.work_out = single;
  if (now->place.bit_size != 0) {
    out.source.shift = now->place.bit_offset;
    out.facts.bits = now->place.bit_size;
    if (out.facts.bits == 1 && !value.is_signed) out.facts.kind = Signal::Kind::kLevel;
  }
  std::string of = "program";
  for (const IoRegister& io : info.io)
    if (Address{Space::kData, io.address} == out.source.bytes[0]) of = io.peripheral;
  for (const Variable& variable : program.variables())
    if (variable.address == out.source.bytes[0] && variable.file < program.files().size())
      of = variable.function.empty() ? program.files()[variable.file].name : variable.function;
  out.facts.scope.push_back(of);
  name_values(program, now->type, out.facts);
  return out;
}

/// How the values of a type are written; as numbers, if it is 0.
void Session::Core::name_values(const Program& program, unsigned type, Signal::Facts& facts) {
  if (type == 0) return;
  const Type& of = program.types()[type];
  switch (of.kind) {
    case Type::Kind::kBool:
      facts.kind = Signal::Kind::kLevel;
      facts.bits = 1;
      facts.names = {{0, "false"}, {1, "true"}};
      break;
    case Type::Kind::kPointer: facts.format.kind = Format::Kind::kHex; break;
    case Type::Kind::kEnum: {
      const std::uint64_t mask =
          facts.bits >= 64 ? UINT64_MAX : (std::uint64_t{1} << facts.bits) - 1;
      for (const Type::Enumerator& e : of.enumerators)
        facts.names.emplace(static_cast<std::uint64_t>(e.value) & mask, e.name);
      break;
    }
    default: break;
  }
}

Result<Session::Core::Traceable> Session::Core::traceable(const Session::TraceSpec& spec) const {
  const std::string text = std::string(base::trim(spec.signal));
  const std::string chip = chip_in(text);
  const Side on = side(chip);
  const std::string what = chip.empty() ? text : text.substr(chip.size() + 1);
  const auto event = traceable_event(what, on);
  auto out = event.value_or(fail(ErrorCode::kUsage, ""));
  // `byte in put` may be a local. Where another chip stands nobody has chosen: its function is
  // named.
  if (!out && (chip.empty() || what.find(" in ") != std::string::npos))
    if (auto local = traceable_local(what, on)) out = std::move(*local);
  if (!out && out.error().what.empty() && !chip.empty()) {
    // Its own comes first, as in expressions.
    out = traceable_object("chip." + what, on);
    if (!out && out.error().code == ErrorCode::kNotFound) out = fail(ErrorCode::kUsage, "");
  }
  if (!out && out.error().what.empty()) out = traceable_object(what, on);
  if (!out) {
    Error error = out.error();
    if (error.code == ErrorCode::kNotFound && error.hint.empty()) {
      std::vector<std::string> events{"interrupt", "calls",   "sleep",
                                      "reset",     "byte in", "byte out"};
      const auto& moments = on.machine().info().moments;
      events.insert(events.end(), moments.begin(), moments.end());
      error.hint = did_you_mean(what, events);
    }
    if (!chip.empty()) {
      error.what = chip + ": " + error.what;
      error.where.clear();  // a column of another text
    }
    return tl::unexpected(std::move(error));
  }
  if (!chip.empty()) {
    out->chip = chip;
    out->facts.name = text;
    if (!out->whole.empty()) {
      out->facts.name = chip + "." + out->whole.substr(0, out->whole.rfind(" in "));
      out->whole = chip + "." + out->whole;
    }
  }
  if (!spec.name.empty()) out->facts.name = spec.name;
  if (spec.format.empty()) return out;
  const auto format = parse_format(spec.format);
  if (!format) return fail(format.error());
  out->facts.format = *format;
  if (format->kind == Format::Kind::kSigned) out->facts.is_signed = true;
  return out;
}

}  // namespace lucid
