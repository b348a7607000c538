// SPDX-License-Identifier: MIT
// What can be traced, and when the recorder listens.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <iterator>
#include <sstream>

#include "base/text.h"
#include "session/bytes_of.h"
#include "session/quiet.h"

namespace lucid {

using record::Source;
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
    const std::string& text) const {
  const ChipInfo& info = machine().info();
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
  out.facts.scope = {info.name};
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
    if (info.serial_ports.empty())
      return Result<Traceable>(
          fail(ErrorCode::kNotFound, fmt::format("{} has no serial port", info.name)));
    const std::string port = words.size() == 3 ? words[2] : info.serial_ports.front();
    const auto place = place_of(info.serial_ports, port, [](const auto& name) { return name; });
    if (!place) return unknown("serial port", port, info.serial_ports);
    out.source.kind = is(1, "in") ? SourceKind::kByteIn : SourceKind::kByteOut;
    out.source.numbers = {*place};
    out.facts.scope.push_back(info.serial_ports[*place]);
    out.facts.kind = Signal::Kind::kMoment;
    out.facts.bits = 16;
    out.facts.format.kind = Format::Kind::kCharacter;
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
  if (is(0, "calls") && words.size() <= 2) {
    const auto level =
        words.size() == 2 ? base::parse_unsigned(words[1]) : std::optional<std::uint64_t>(0);
    if (!level || *level > 1000 || (words.size() == 2 && *level == 0))
      return Result<Traceable>(fail(ErrorCode::kUsage,
                                    fmt::format("'{}' is no call level", words[1]),
                                    "calls 1 is the outermost, main; calls alone the innermost"));
    if (!machine().clone()->tell_calls(true))
      return Result<Traceable>(
          fail(ErrorCode::kUnsupported, fmt::format("{} does not tell of calls", info.name)));
    out.source.kind = SourceKind::kCalls;
    out.source.numbers = {static_cast<std::uint32_t>(*level)};
    out.facts.scope.emplace_back("calls");
    out.facts.kind = Signal::Kind::kNumber;
    out.facts.bits = 32;
    out.facts.names[0] = "-";
    for (const Function& function : program_.functions())
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
    const auto pin = machine().wire_pin(words[1]);
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
    const auto parts = machine().parts();
    const std::size_t others = machine().companions().size();
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
Result<Session::Core::Traceable> Session::Core::traceable_object(const std::string& text) const {
  const ChipInfo& info = machine().info();
  Traceable out;
  out.facts.name = text;
  out.facts.scope = {info.name};
  const auto be_pins = [&](std::vector<std::uint32_t> pins) {
    out.facts.scope.emplace_back("pins");
    out.facts.bits = static_cast<std::uint8_t>(pins.size());
    out.source.numbers = std::move(pins);
  };
  if (base::equal_ignoring_case(text.substr(0, 4), "pin.")) {
    const std::string name = text.substr(4);
    std::vector<std::uint32_t> pins;
    for (const PinState& pin : machine().pins()) {
      const bool of_port = pin.name.size() == name.size() + 1 &&
                           base::equal_ignoring_case(pin.name.substr(0, name.size()), name);
      if (const auto number = machine().wire_pin(pin.name); of_port && number)
        pins.push_back(*number);
    }
    if (!pins.empty()) {
      be_pins(std::move(pins));
      out.facts.kind = Signal::Kind::kNumber;
      out.facts.format.kind = Format::Kind::kBinary;
      return out;
    }
  }
  const frames::Scope here = scope();
  auto expression = expression::Expression::parse(text, here);
  if (!expression) return fail(expression.error());
  auto now = expression->evaluate(here);
  if (!now) return fail(now.error());
  const frames::Place::Kind kind = now->place.kind;
  if (kind == frames::Place::Kind::kPin) {
    const auto pin = machine().wire_pin(now->place.pin);
    if (!pin) return fail(ErrorCode::kUnsupported, fmt::format("'{}' cannot be traced", text));
    be_pins({*pin});
    return out;
  }
  if (expression->uses_locals())
    return fail(ErrorCode::kUnsupported,
                fmt::format("'{}' lies in a function's frame and comes and goes with it", text),
                "trace what is static; `pause on change` and `log` follow a local");
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
  const MemoryArea* ram = machine().area("ram");
  for (const expression::Operand& part : parts) {
    const auto bytes = session::bytes_of(part, program_, machine());
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
    const std::shared_ptr<machine::Machine> copy = machine().clone();
    const auto shared = std::make_shared<expression::Expression>(std::move(*expression));
    const auto flows = std::make_shared<frames::Flows>();
    const bool real = value.kind == Value::Kind::kReal;
    out.source.work_out = [this, copy, shared, flows, real,
                           where = out.source.bytes](const std::vector<std::uint8_t>& bytes) {
      for (std::size_t i = 0; i < bytes.size(); ++i) copy->poke(where[i], bytes[i]);
      const frames::Scope then{program_, *copy, *flows, static_end_, 0, {}};
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
  for (const Variable& variable : program_.variables())
    if (variable.address == out.source.bytes[0] && variable.file < program_.files().size())
      of = variable.function.empty() ? program_.files()[variable.file].name : variable.function;
  out.facts.scope.push_back(of);
  unsigned type = now->type;
  const auto& types = program_.types();
  while (type != 0 && types[type].alias_of != 0) type = types[type].alias_of;
  if (type != 0 && types[type].kind == Type::Kind::kBool) {
    out.facts.kind = Signal::Kind::kLevel;
    out.facts.bits = 1;
    out.facts.names = {{0, "false"}, {1, "true"}};
  }
  if (type != 0 && types[type].kind == Type::Kind::kPointer)
    out.facts.format.kind = Format::Kind::kHex;
  if (type != 0 && types[type].kind == Type::Kind::kEnum) {
    const std::uint64_t mask =
        out.facts.bits >= 64 ? UINT64_MAX : (std::uint64_t{1} << out.facts.bits) - 1;
    for (const Type::Enumerator& e : types[type].enumerators)
      out.facts.names.emplace(static_cast<std::uint64_t>(e.value) & mask, e.name);
  }
  return out;
}

Result<Session::Core::Traceable> Session::Core::traceable(const Session::TraceSpec& spec) const {
  const std::string text = std::string(base::trim(spec.signal));
  auto out = traceable_event(text).value_or(fail(ErrorCode::kUsage, ""));
  if (!out && out.error().what.empty()) out = traceable_object(text);
  if (!out) return out;
  if (!spec.name.empty()) out->facts.name = spec.name;
  if (spec.format.empty()) return out;
  const auto format = parse_format(spec.format);
  if (!format) return fail(format.error());
  out->facts.format = *format;
  if (format->kind == Format::Kind::kSigned) out->facts.is_signed = true;
  return out;
}

/// The interrupts whose handlers have not returned, and who calls whom.
record::Standing Session::Core::standing() const {
  record::Standing out;
  const auto wants = [&](machine::EventKind kind) {
    return ((recorder_.kinds() | (listening_ != nullptr ? listening_->kinds() : 0)) & bit(kind)) !=
           0;
  };
  if (!wants(machine::EventKind::kReturn)) return out;
  const auto& vectors = machine().info().vectors;
  for (const frames::Frame& frame : frames::unwind(program_, machine(), flows_)) {
    if (frame.function == nullptr) continue;
    out.calls.insert(out.calls.begin(),
                     {frame.function->begin, frame.known ? frame.cfa - 1 : 0, frame.interrupt});
    if (!frame.interrupt) continue;
    for (const InterruptVector& vector : vectors)
      if (frames::is_handler_of(machine(), *frame.function, vector)) {
        out.handlers.insert(out.handlers.begin(), vector.number);
        break;
      }
  }
  for (const InterruptVector& vector : vectors) {
    if (vector.number == 0 || vector.address != machine().pc()) continue;  // entered this moment
    out.handlers.push_back(vector.number);
    if (const auto target = machine().instruction_at(vector.address).target)
      out.calls.push_back({*target, 0, true});
  }
  return out;
}

/// Where the handler of each vector begins.
std::map<unsigned, std::uint32_t> Session::Core::handler_begins() const {
  std::map<unsigned, std::uint32_t> out;
  for (const InterruptVector& vector : machine().info().vectors)
    if (const auto target = machine().instruction_at(vector.address).target; target)
      out.emplace(vector.number, *target);
  return out;
}

void Session::Core::listen(record::Recorder& recorder) {
  listening_ = &recorder;
  if ((recorder.kinds() & bit(machine::EventKind::kCall)) != 0) {
    std::vector<std::uint32_t> begins;
    for (const Function& function : program_.functions()) begins.push_back(function.begin);
    std::sort(begins.begin(), begins.end());
    recorder.set_functions(std::move(begins), handler_begins());
    machine().tell_calls(true);
  }
  (void)machine().listen(recorder.kinds(), &recorder).has_value();
  sync_watches();
  recorder.look(machine(), standing());
}

void Session::Core::stop_listening(record::Recorder& recorder) {
  (void)machine().listen(0, nullptr).has_value();
  recorder.end_at(machine().ticks());
  listening_ = nullptr;
  sync_watches();
}

/// Something has been done to the machine in the middle of a run.
void Session::Core::hear_on() {
  if (listening_ == nullptr) return;
  listening_->end_at(machine().ticks());
  listening_->look(machine(), standing());
}

/// From where the timeline begins up to now. Error: there is no past, or somebody asked for a
/// pause.
Result<void> Session::Core::fill_from_start(record::Recorder& recorder) {
  const record::Moment present = now();
  begin_back();
  const auto kept = keep();
  bool done = true;
  {
    const Quiet quiet(*this);
    const Timeline::Copy* first = timeline_.first();
    restore(Point{first->at, first->machine});
    recorder.begin_anew(machine());
    acts_until_ = present.acts;
    listen(recorder);
    machine::RunRequest request;
    request.until_ticks = present.tick;
    while (machine().ticks() < present.tick && !pause_requested_) {
      if (run(request).stop.why == machine::Stop::Why::kFault) break;
      stood_at_ = {machine().pc(), machine().ticks()};
    }
    happen();
    hear_on();
    done = machine().ticks() >= present.tick;
    stop_listening(recorder);
  }
  running_ = false;
  pause_requested_ = false;
  auto back = return_to(*kept);
  if (!back) return fail(back.error());
  if (done) return {};
  return fail(ErrorCode::kUsage, "given up: nothing is traced",
              "without `from start` it is traced from here on");
}

/// Error: it is the name of another one.
Result<void> Session::Core::be_free(const std::string& name) const {
  for (const Traced& other : traced_)
    if (base::equal_ignoring_case(name, other.name()))
      return fail(ErrorCode::kUsage, fmt::format("'{}' is traced already, as {}", name, other.id),
                  "`untrace` ends that; `named` gives this one another name");
  return {};
}

Result<Session::TraceView> Session::Core::trace(const Session::TraceSpec& spec) {
  if (auto is_free = be_free(spec.name.empty() ? spec.signal : spec.name); !is_free)
    return fail(is_free.error());
  auto found = traceable(spec);
  if (!found) return fail(found.error());
  if (spec.from_start && timeline_.first() == nullptr) return no_past();
  const unsigned id = next_id_;
  record::Recorder alone;
  alone.add(id, std::move(found->facts), std::move(found->source), machine());
  if (spec.from_start)
    if (auto filled = fill_from_start(alone); !filled) return fail(filled.error());
  ++next_id_;
  recorder_.take_over(alone, id);
  traced_.push_back({id, spec});
  return view(traced_.back());
}

Session::TraceView Session::Core::view(const Traced& traced) const {
  Session::TraceView out;
  out.id = traced.id;
  out.signal = traced.spec.signal;
  out.name = traced.name();
  const auto signal = this->signal(traced.id);
  if (!signal) {
    out.value = signal.error().what;
    return out;
  }
  out.kind = signal->facts().kind;
  out.from = signal->time(signal->begin());
  out.to = signal->time(signal->end());
  out.changes = signal->changes();
  out.discarded = signal->discarded();
  out.bytes = signal->bytes();
  if (out.kind != Signal::Kind::kMoment || out.changes != 0)
    out.value = signal->text(signal->at(signal->end()));
  return out;
}

std::vector<Session::TraceView> Session::Core::traces() const {
  std::vector<Session::TraceView> out;
  for (const Traced& traced : traced_) out.push_back(view(traced));
  return out;
}

Result<unsigned> Session::Core::find_trace(const std::string& name) const {
  std::vector<std::string> names;
  for (const Traced& traced : traced_) {
    if (base::equal_ignoring_case(traced.spec.name, name) ||
        base::equal_ignoring_case(traced.spec.signal, name) || std::to_string(traced.id) == name)
      return traced.id;
    names.push_back(traced.name());
  }
  return fail(ErrorCode::kNotFound, fmt::format("'{}' is not traced", name),
              names.empty() ? fmt::format("`trace {} from start` records it", name)
                            : did_you_mean(name, names));
}

Result<Signal> Session::Core::signal(unsigned id) const {
  for (const Traced& traced : traced_) {
    if (traced.id != id) continue;
    if (traced.imported != nullptr) return *traced.imported;
    if (traced.decoder == nullptr) return *recorder_.signal(id);
    auto decoded = this->decoded(*traced.decoder);
    if (!decoded) return fail(decoded.error());
    return std::move(decoded->signal);
  }
  return fail(ErrorCode::kNotFound, fmt::format("there is no trace {}", id));
}

Result<Signal> Session::Core::signal(const std::string& name) const {
  const auto id = find_trace(name);
  return id ? signal(*id) : fail(id.error());
}

Result<Decoded> Session::Core::decoded(const Session::DecodeSpec& spec) const {
  using Kind = Session::DecodeSpec::Kind;
  std::vector<Signal> wires;
  std::uint64_t glitches = 0;
  for (const std::string& name : spec.wires) {
    auto wire = signal(name);
    if (!wire) return fail(wire.error());
    if (spec.glitches.count != 0) {
      auto [clean, count] = without_glitches(*wire, spec.glitches);
      *wire = std::move(clean);
      glitches += count;
    }
    wires.push_back(std::move(*wire));
  }
  const std::size_t least = spec.kind == Kind::kTwoWire || spec.kind == Kind::kSpi ? 2 : 1;
  if (wires.size() < least) return fail(ErrorCode::kUsage, "a wire is missing");
  Result<Decoded> out = fail(ErrorCode::kUsage, "nothing is decoded so");
  switch (spec.kind) {
    case Kind::kSerial: out = decode_serial(wires[0], spec.serial); break;
    case Kind::kTwoWire: out = decode_two_wire(wires[0], wires[1]); break;
    case Kind::kSpi:
      out = decode_spi(wires[0], wires[1], wires.size() > 2 ? &wires[2] : nullptr, spec.mode);
      break;
    case Kind::kOneWire: out = decode_one_wire(wires[0]); break;
    case Kind::kDuty:
    case Kind::kWidths: out = decode_pulses(wires[0], spec.kind == Kind::kWidths); break;
  }
  if (!out) return out;
  out->glitches = glitches;
  if (!spec.name.empty()) out->signal = out->signal.called(spec.name);
  return out;
}

Result<Decoded> Session::Core::decode(Session::DecodeSpec spec) {
  auto out = decoded(spec);
  if (!out) return out;
  const std::string name = out->signal.name();
  if (auto is_free = be_free(name); !is_free) return fail(is_free.error());
  spec.name = name;
  Traced traced;
  traced.id = next_id_++;
  traced.spec.signal = name;
  traced.decoder = std::make_shared<const Session::DecodeSpec>(std::move(spec));
  traced_.push_back(std::move(traced));
  return out;
}

Result<std::vector<Session::TraceView>> Session::Core::add_signals(
    const std::vector<Signal>& signals, const std::string& prefix, Picoseconds start) {
  for (const Signal& signal : signals)
    if (auto is_free = be_free(prefix + "." + signal.name()); !is_free)
      return fail(is_free.error());
  std::vector<Session::TraceView> out;
  for (const Signal& signal : signals) {
    const std::string name = prefix + "." + signal.name();
    Traced traced;
    traced.id = next_id_++;
    traced.spec.signal = name;
    traced.imported =
        std::make_shared<const Signal>(signal.called(name).moved(to_ticks(start, signal.hz())));
    traced_.push_back(std::move(traced));
    out.push_back(view(traced_.back()));
  }
  return out;
}

Result<void> Session::Core::untrace(const std::string& name) {
  const auto id = find_trace(name);
  if (!id) return fail(id.error());
  recorder_.remove(*id);
  if ((recorder_.kinds() & bit(machine::EventKind::kCall)) == 0) machine().tell_calls(false);
  traced_.erase(std::remove_if(traced_.begin(), traced_.end(),
                               [&](const Traced& traced) { return traced.id == *id; }),
                traced_.end());
  return {};
}

void Session::Core::clear_traces() { recorder_.begin_anew(machine()); }

std::vector<std::string> Session::Core::trace_again() {
  std::vector<std::string> out;
  recorder_.clear();
  std::vector<Traced> all;
  all.swap(traced_);
  for (Traced& traced : all) {
    if (traced.imported != nullptr || traced.decoder != nullptr) {
      traced_.push_back(std::move(traced));
      continue;
    }
    auto found = traceable(traced.spec);
    if (!found) {
      out.push_back(
          fmt::format("{} is not traced any more: {}", traced.spec.signal, found.error().what));
      continue;
    }
    recorder_.add(traced.id, std::move(found->facts), std::move(found->source), machine());
    traced_.push_back(std::move(traced));
  }
  return out;
}

void Session::told(Picoseconds time) {
  core_->told(time, to_ticks(time, core_->machine().info().clock_hz));
}
Result<Session::TraceView> Session::trace(const TraceSpec& spec) { return core_->trace(spec); }
std::vector<Session::TraceView> Session::traces() const { return core_->traces(); }
Result<void> Session::untrace(const std::string& name) { return core_->untrace(name); }
void Session::clear_traces() { core_->clear_traces(); }
void Session::set_trace_bound(std::size_t bytes) { core_->recorder_.set_bound(bytes); }
Result<Signal> Session::signal(const std::string& name) const { return core_->signal(name); }
Result<Decoded> Session::decode(const DecodeSpec& spec) { return core_->decode(spec); }
Result<std::vector<Session::TraceView>> Session::add_signals(const std::vector<Signal>& signals,
                                                             const std::string& prefix,
                                                             Picoseconds start) {
  return core_->add_signals(signals, prefix, start);
}
std::vector<Signal> Session::signals() const {
  std::vector<Signal> out;
  for (const TraceView& trace : core_->traces())
    if (auto signal = core_->signal(trace.id)) out.push_back(std::move(*signal));
  return out;
}

}  // namespace lucid
