// SPDX-License-Identifier: MIT
#include "record/recorder.h"

#include <algorithm>
#include <utility>

namespace lucid::record {

using machine::EventKind;
using Kind = Source::Kind;

namespace {

/// Bytes of an object that are stored within so many ticks of each other are one change.
constexpr std::uint64_t kTogether = 64;

std::uint32_t kinds_of(Kind kind) {
  switch (kind) {
    case Kind::kPins: return bit(EventKind::kPin);
    case Kind::kBytes:
      return bit(EventKind::kWrite) | bit(EventKind::kIo) | bit(EventKind::kInterrupt);
    case Kind::kInterrupt:
      return bit(EventKind::kInterrupt) | bit(EventKind::kReturn) | bit(EventKind::kReset);
    case Kind::kByteIn: return bit(EventKind::kByteIn);
    case Kind::kByteOut: return bit(EventKind::kByteOut);
    case Kind::kSleep:
      return bit(EventKind::kSleep) | bit(EventKind::kWake) | bit(EventKind::kReset);
    case Kind::kEepromWrite: return bit(EventKind::kEepromWrite);
    case Kind::kReset: return bit(EventKind::kReset);
    case Kind::kVoltage: return bit(EventKind::kVoltage);
    case Kind::kQuantity: return bit(EventKind::kQuantity);
    case Kind::kCalls:
      return bit(EventKind::kCall) | bit(EventKind::kLeave) | bit(EventKind::kInterrupt) |
             bit(EventKind::kReturn) | bit(EventKind::kReset);
    case Kind::kLooked: return bit(EventKind::kReset);
    case Kind::kBusIn: return bit(EventKind::kBusIn);
    case Kind::kBusOut: return bit(EventKind::kBusOut);
    case Kind::kMoment: return bit(EventKind::kMoment);
  }
  return 0;
}

std::uint32_t key_of(Address address) {
  return address.offset | (address.space == Space::kData ? 0U : machine::kNotData);
}

}  // namespace

void Recorder::add(unsigned id, Signal::Facts facts, Source source, const machine::Machine& machine,
                   bool with_places, std::optional<AroundSpec> around) {
  Lane lane;
  lane.id = id;
  lane.source = std::move(source);
  const std::uint64_t now = machine.ticks();
  if (with_places) {
    constexpr std::uint8_t kBits = 32;
    lane.places = Signal({facts.name + " places", facts.scope, Signal::Kind::kNumber, kBits},
                         machine.info().clock_hz, now);
  }
  lane.signal = Signal(std::move(facts), machine.info().clock_hz, now);
  lane.end = lane.heard = now;
  if (around) lane.around.emplace(*around, lane);
  for (std::size_t k = 0; lane.source.kind == Kind::kPins && k < lane.source.numbers.size(); ++k)
    if (lane.source.numbers[k] != Source::kNoPin) lane.pins |= std::uint64_t{1} << k;
  const MemoryArea* ram = machine.area("ram");
  for (const Address address : lane.source.bytes) {
    const bool stored =
        ram != nullptr && address.space == ram->space && address.offset >= ram->begin;
    lane.taps.push_back(stored ? machine::kTapWrite : machine::kTapChange);
  }
  std::vector<std::uint8_t> objects = lane.source.objects;
  if (objects.empty()) objects.push_back(static_cast<std::uint8_t>(lane.source.bytes.size()));
  unsigned first = 0;
  for (const std::uint8_t bytes : objects) {
    const std::uint64_t ones = bytes >= 64 ? UINT64_MAX : (std::uint64_t{1} << bytes) - 1;
    lane.masks.push_back(ones << first);
    first += bytes;
  }
  lanes_.push_back(std::move(lane));
  index();
  Lane& added = lanes_.back();
  asleep_ = machine.asleep();
  read(added, machine);
  if (added.source.look) take_look(added, machine);
  if (!is_moment(added.signal)) put_value(added, now);
}

void Recorder::take_over(Recorder& other, unsigned id) {
  for (Lane& lane : other.lanes_)
    if (lane.id == id) lanes_.push_back(std::move(lane));
  other.clear();
  index();
}

bool Recorder::remove(unsigned id) {
  const auto gone = std::remove_if(lanes_.begin(), lanes_.end(),
                                   [id](const Lane& lane) { return lane.id == id; });
  if (gone == lanes_.end()) return false;
  lanes_.erase(gone, lanes_.end());
  index();
  return true;
}

void Recorder::clear() {
  lanes_.clear();
  index();
}

/// Who is asked when something is heard.
void Recorder::index() {
  kinds_ = 0;
  wanted_moments_ = 0;
  left_at_.reset();  // what is known of calls may have been kept by nobody
  furthest_.reset();
  behind_furthest_ = false;
  taps_.clear();
  places_.clear();
  by_address_.clear();
  by_pin_.clear();
  by_voltage_.clear();
  by_quantity_.clear();
  wide_.clear();
  moments_.clear();
  for (std::size_t i = 0; i < lanes_.size(); ++i) {
    const Source& source = lanes_[i].source;
    kinds_ |= kinds_of(source.kind);
    for (unsigned k = 0; k < source.numbers.size(); ++k) {
      if (source.kind == Kind::kPins) by_pin_[source.numbers[k]].emplace_back(i, k);
      if (source.kind == Kind::kVoltage) by_voltage_[source.numbers[k]].emplace_back(i, k);
      if (source.kind == Kind::kQuantity) by_quantity_[source.numbers[k]].emplace_back(i, k);
      if (source.kind == Kind::kMoment) wanted_moments_ |= std::uint64_t{1} << source.numbers[k];
    }
    for (unsigned k = 0; k < source.bytes.size(); ++k) {
      by_address_[key_of(source.bytes[k])].emplace_back(i, k);
      taps_[source.bytes[k]] |= lanes_[i].taps[k];
    }
    places_.insert(source.places.begin(), source.places.end());
    if (source.bytes.size() > 1) wide_.push_back(i);
    const bool other = source.kind == Kind::kInterrupt || source.kind == Kind::kSleep ||
                       source.kind == Kind::kCalls || source.kind == Kind::kLooked ||
                       is_moment(lanes_[i].signal);
    if (other) moments_.push_back(i);
  }
}

// What is heard
// -----------------------------------------------------------------------------------

/// Once only: what lies before the end has been recorded.
void Recorder::put(Lane& lane, Sample sample) {
  if (sample.tick < lane.end) return;
  const bool moment = is_moment(lane.signal);
  if (moment && sample.tick == lane.end && lane.to_skip != 0) {
    --lane.to_skip;
    return;
  }
  // One at a time: found out again, from a state before it.
  if (lane.source.kind == Kind::kMoment && sample.tick == lane.end && lane.at_end != 0) return;
  if (sample.tick > lane.end) {
    lane.end = sample.tick;
    lane.at_end = lane.to_skip = 0;
  }
  if (moment) ++lane.at_end;
  const std::uint64_t before = lane.signal.changes();
  lane.signal.add(sample);
  if (!lane.places || lane.signal.changes() == before) return;
  lane.places->add(
      {sample.tick, pc_.value_or(0), pc_ ? Sample::State::kKnown : Sample::State::kUnknown});
}

Sample Recorder::value_of(const Lane& lane, std::uint64_t tick) const {
  Sample out{tick, 0, Sample::State::kKnown};
  switch (lane.source.kind) {
    case Kind::kPins:
      out.value = lane.value;
      // A bus is what would be read of it, unless all of it floats.
      if (lane.fought != 0)
        out.state = Sample::State::kUnknown;
      else if (lane.odd == lane.pins)
        out.state = Sample::State::kFloating;
      break;
    case Kind::kBytes: {
      if (lane.source.work_out) {
        out = lane.source.work_out(lane.bytes);
        out.tick = tick;
        break;
      }
      for (std::size_t i = 0; i < lane.bytes.size(); ++i)
        out.value |= std::uint64_t{lane.bytes[i]} << (8 * i);
      out.value >>= lane.source.shift;
      const unsigned bits = lane.signal.facts().bits;
      if (bits < 64) out.value &= (std::uint64_t{1} << bits) - 1;
      break;
    }
    case Kind::kInterrupt:
      if (lane.source.numbers.empty())
        out.value = standing_.handlers.empty() ? 0 : standing_.handlers.back();
      else
        out.value = std::count(standing_.handlers.begin(), standing_.handlers.end(),
                               lane.source.numbers[0]) != 0;
      break;
    case Kind::kSleep: out.value = asleep_ ? 1 : 0; break;
    case Kind::kCalls: {
      const std::size_t level = lane.source.numbers[0];
      if (level == 0 && !standing_.calls.empty()) out.value = standing_.calls.back().begin + 1U;
      if (level != 0 && level <= standing_.calls.size())
        out.value = standing_.calls[level - 1].begin + 1;
      if (!standing_.all_calls && (level != 0 || standing_.calls.empty()))
        out.state = Sample::State::kUnknown;
      break;
    }
    default:
      out.value = lane.value;
      if (lane.odd != 0) out.state = Sample::State::kUnknown;
      break;
  }
  return out;
}

void Recorder::put_value(Lane& lane, std::uint64_t tick) { put(lane, value_of(lane, tick)); }

/// What has been stored of it is what it is from now on.
void Recorder::settle(Lane& lane) {
  if (!lane.partial) return;
  const std::uint64_t tick = lane.partial->last;
  const auto pc = std::exchange(pc_, lane.partial->pc);
  lane.partial.reset();
  put_value(lane, tick);
  pc_ = pc;
}

void Recorder::stored(const machine::Record& record, std::uint32_t address) {
  const auto found = by_address_.find(address);
  if (found == by_address_.end()) return;
  for (const auto& [i, place] : found->second) {
    Lane& lane = lanes_[i];
    const auto value = static_cast<std::uint8_t>(record.value);
    if (lane.bytes.size() == 1 || record.kind == EventKind::kIo) {
      lane.bytes[place] = value;
      put_value(lane, record.tick);
      continue;
    }
    const std::uint64_t mask = std::uint64_t{1} << place;
    if (lane.partial &&
        ((lane.partial->stored & mask) != 0 || record.tick - lane.partial->last > kTogether))
      settle(lane);
    lane.bytes[place] = value;
    if (!lane.partial) lane.partial = Lane::Partial{};
    lane.partial->stored |= mask;
    lane.partial->last = record.tick;
    lane.partial->pc = pc_;
    // Objects are whole: all of their bytes have been stored, or none.
    const std::uint64_t stored = lane.partial->stored;
    if (std::all_of(lane.masks.begin(), lane.masks.end(), [stored](std::uint64_t object) {
          return (stored & object) == 0 || (stored & object) == object;
        }))
      settle(lane);
  }
}

void Recorder::set_pin(Lane& lane, unsigned place, unsigned level) {
  const std::uint64_t mask = std::uint64_t{1} << place;
  lane.value = level == machine::kHigh ? lane.value | mask : lane.value & ~mask;
  lane.odd = level == machine::kFloats ? lane.odd | mask : lane.odd & ~mask;
  lane.fought = level == machine::kFought ? lane.fought | mask : lane.fought & ~mask;
}

/// Is a record one of a lane's moments? With the number that it tells.
static std::optional<std::uint64_t> moment_of(const Source& source, const machine::Record& r) {
  if (bit(r.kind) != kinds_of(source.kind)) return std::nullopt;
  if (source.kind == Kind::kEepromWrite || source.kind == Kind::kReset) return r.number;
  const bool its = !source.numbers.empty() && source.numbers[0] == r.number;
  return its ? std::optional<std::uint64_t>(r.value) : std::nullopt;
}

/// What the processor or a port has done.
void Recorder::happened(const machine::Record& record) {
  switch (record.kind) {
    case EventKind::kInterrupt:
      for (const std::size_t i : wide_) settle(lanes_[i]);
      standing_.handlers.push_back(record.number);
      {
        constexpr std::uint32_t kNobody = UINT32_MAX;  // it stands in the vector itself
        const auto handler = handler_of_.find(record.number);
        standing_.calls.push_back(
            {handler != handler_of_.end() ? handler->second : kNobody, 0, true});
      }
      break;
    case EventKind::kCall:
      // A call of the next instruction makes room on the stack.
      if (is_function(record.number))
        standing_.calls.push_back({record.number, record.value, false});
      break;
    case EventKind::kLeave:
      while (!standing_.calls.empty() && !standing_.calls.back().handler &&
             standing_.calls.back().sp < record.value)
        standing_.calls.pop_back();
      break;
    case EventKind::kReturn:
      if (!standing_.handlers.empty()) standing_.handlers.pop_back();
      // One that was entered before anybody listened is not among them.
      if (std::any_of(standing_.calls.begin(), standing_.calls.end(),
                      [](const Called& c) { return c.handler; })) {
        while (!standing_.calls.back().handler) standing_.calls.pop_back();
        standing_.calls.pop_back();
      }
      break;
    case EventKind::kReset:
      for (Lane& lane : lanes_)
        if (lane.source.look) lane.odd = 1;  // whose frame it was in is gone
      standing_.handlers.clear();
      standing_.calls.clear();
      standing_.all_calls = true;
      asleep_ = false;
      break;
    case EventKind::kSleep: asleep_ = true; break;
    case EventKind::kWake: asleep_ = false; break;
    default: break;
  }
  for (const std::size_t i : moments_) {
    Lane& lane = lanes_[i];
    if (!is_moment(lane.signal))
      put_value(lane, record.tick);
    else if (const auto number = moment_of(lane.source, record))
      put(lane, {record.tick, *number, Sample::State::kKnown});
  }
}

bool Recorder::is_function(std::uint32_t address) const {
  if (function_begins_.empty())
    return std::binary_search(functions_.begin(), functions_.end(), address);
  const std::uint32_t at = address - functions_.front();
  return at < function_begins_.size() && function_begins_[at];
}

void Recorder::take_look(Lane& lane, const machine::Machine& machine) {
  const Sample seen = lane.source.look(machine);
  lane.value = seen.value;
  lane.odd = seen.known() ? 0 : 1;
}

void Recorder::stand(const machine::Machine& at) {
  for (Lane& lane : lanes_) {
    const std::vector<std::uint32_t>& places = lane.source.places;
    if (!std::binary_search(places.begin(), places.end(), at.pc())) continue;
    take_look(lane, at);
    pc_ = at.pc();
    put_value(lane, at.ticks());
  }
  pc_.reset();
}

std::uint32_t Recorder::look_at(const machine::Machine& at) {
  for (const Lane& lane : lanes_) {
    const std::vector<std::uint32_t>& places = lane.source.places;
    if (!std::binary_search(places.begin(), places.end(), at.pc())) continue;
    Sample seen = lane.source.look(at);
    seen.tick = at.ticks();
    looks_.push_back({next_look_, lane.id, seen});
  }
  return next_look_++;
}

/// Those before it have not been told of: it was not so.
void Recorder::take_looks(std::uint32_t number) {
  for (; !looks_.empty() && looks_.front().number <= number; looks_.pop_front()) {
    const Look& look = looks_.front();
    for (Lane& lane : lanes_) {
      if (look.number != number || lane.id != look.lane) continue;
      lane.value = look.seen.value;
      lane.odd = look.seen.known() ? 0 : 1;
      put_value(lane, look.seen.tick);
    }
  }
}

/// What was known there is known again.
void Recorder::pass_furthest(std::uint64_t tick) {
  if (!behind_furthest_ || tick <= furthest_->tick) return;
  behind_furthest_ = false;
  standing_ = furthest_->standing;
}

void Recorder::take(const machine::Record* records, std::size_t count) {
  for (const machine::Record* r = records; r != records + count; ++r) {
    if (behind_furthest_) pass_furthest(r->tick);
    pc_ = r->late ? std::nullopt : std::optional(r->pc);
    switch (r->kind) {
      case EventKind::kPin:
        if (const auto found = by_pin_.find(r->number); found != by_pin_.end())
          for (const auto& [i, place] : found->second) {
            set_pin(lanes_[i], place, r->value);
            put_value(lanes_[i], r->tick);
          }
        break;
      case EventKind::kWrite:
      case EventKind::kIo: stored(*r, r->number); break;
      case EventKind::kVoltage:
      case EventKind::kQuantity: {
        const auto& ends = r->kind == EventKind::kVoltage ? by_voltage_ : by_quantity_;
        if (const auto found = ends.find(r->number); found != ends.end())
          for (const auto& [i, place] : found->second) {
            lanes_[i].value = r->value;
            lanes_[i].odd = 0;
            put_value(lanes_[i], r->tick);
          }
        break;
      }
      case EventKind::kLook: take_looks(r->number); break;
      default: happened(*r); break;
    }
  }
  pc_.reset();
  constexpr unsigned kOften = 16;
  if (++takes_ % kOften == 0) keep_bound();
}

void Recorder::keep_bound() {
  for (;;) {
    std::size_t all = 0, most = 0;
    Lane* largest = nullptr;
    for (Lane& lane : lanes_) {
      if (lane.around) lane.around->take(lane, lane.end);
      const std::size_t bytes = lane.signal.bytes() + (lane.places ? lane.places->bytes() : 0) +
                                (lane.around ? lane.around->bytes() : 0);
      all += bytes;
      if (bytes <= most) continue;
      most = bytes;
      largest = &lane;
    }
    if (all <= bound_ || !make_room(*largest)) return;
  }
}

/// The oldest of a lane goes to the file, or is given up. False: there is too little of it.
bool Recorder::make_room(Lane& lane) {
  if (lane.around && make_room(lane.around->kept())) {
    lane.around->forget_before(lane.around->kept().signal.begin());
    return true;
  }
  if (make_room(static_cast<Recorded&>(lane))) return true;
  if (!lane.around) return false;
  const std::size_t before = lane.around->bytes();
  lane.around->forget_before(lane.signal.begin());
  return lane.around->bytes() < before;
}

bool Recorder::make_room(Recorded& lane) {
  for (Signal* signal : {&lane.signal, lane.places ? &*lane.places : nullptr}) {
    if (signal == nullptr || file_ == nullptr) continue;
    const auto put = signal->put_oldest_into(file_);
    if (put && *put) return true;
    if (put) continue;
    trouble_ = put.error();
    file_.reset();
  }
  if (!lane.signal.discard_oldest()) return false;
  if (lane.places && lane.places->changes() > lane.signal.changes())
    static_cast<void>(lane.places->discard_oldest());
  return true;
}

// What is seen
// ------------------------------------------------------------------------------------

void Recorder::read(Lane& lane, const machine::Machine& machine) {
  const Source& source = lane.source;
  switch (source.kind) {
    case Kind::kPins: {
      const auto pins = machine.pins();
      for (const PinState& pin : pins) {
        const auto number = machine.wire_pin(pin.name);
        for (unsigned k = 0; number && k < source.numbers.size(); ++k)
          if (source.numbers[k] == *number) set_pin(lane, k, machine::level_of(pin));
      }
      break;
    }
    case Kind::kBytes: {
      std::vector<std::uint8_t> bytes;
      for (const Address address : source.bytes) bytes.push_back(machine.peek(address).value_or(0));
      if (bytes != lane.bytes) lane.partial.reset();  // somebody else has changed it
      lane.bytes = std::move(bytes);
      break;
    }
    case Kind::kVoltage:
      lane.odd = 1;  // until something applies one
      for (const PinState& pin : machine.pins())
        if (machine.wire_pin(pin.name) == source.numbers[0] && pin.microvolts) {
          lane.value = static_cast<std::uint32_t>(*pin.microvolts);
          lane.odd = 0;
        }
      break;
    case Kind::kQuantity: {
      const auto parts = machine.parts();
      const std::size_t part = machine.companions().size() + source.numbers[0] / 256;
      const std::size_t quantity = source.numbers[0] % 256;
      if (part < parts.size() && quantity < parts[part].quantities.size())
        lane.value = static_cast<std::uint32_t>(parts[part].quantities[quantity].thousandths);
      break;
    }
    case Kind::kLooked: {
      const Sample last = lane.signal.at(machine.ticks());
      lane.value = last.value;
      lane.odd = last.known() ? 0 : 1;
      break;
    }
    default: break;
  }
}

void Recorder::set_functions(std::vector<std::uint32_t> begins,
                             std::map<unsigned, std::uint32_t> handlers) {
  functions_ = std::move(begins);
  function_begins_.clear();
  constexpr std::uint32_t kMostSpan = 1U << 24U;
  if (!functions_.empty() && functions_.back() - functions_.front() < kMostSpan) {
    function_begins_.resize(functions_.back() - functions_.front() + 1);
    for (const std::uint32_t begin : functions_)
      function_begins_[begin - functions_.front()] = true;
  }
  handler_of_ = std::move(handlers);
}

void Recorder::look(const machine::Machine& machine, const Standing& standing) {
  const std::uint64_t now = machine.ticks();
  if (left_at_ != now) {
    standing_ = standing;
    behind_furthest_ = furthest_ && now < furthest_->tick;
    if (furthest_ && now == furthest_->tick) standing_ = furthest_->standing;
  }
  left_at_ = now;
  asleep_ = machine.asleep();
  for (Lane& lane : lanes_) {
    const bool again = now < lane.end;
    lane.to_skip = again ? lane.at_end : 0;
    if (now > lane.heard) {  // nobody has listened up to here
      settle(lane);
      if (!is_moment(lane.signal)) lane.signal.add({lane.heard + 1, 0, Sample::State::kUnknown});
      lane.heard = now;
    }
    if (again) lane.partial.reset();
    read(lane, machine);
    if (!again && !is_moment(lane.signal) && !lane.partial) put_value(lane, now);
  }
}

void Recorder::end_at(std::uint64_t tick) {
  left_at_ = tick;
  pass_furthest(tick);
  if (behind_furthest_ && tick == furthest_->tick) standing_ = furthest_->standing;
  if (!furthest_ || tick > furthest_->tick) furthest_ = Furthest{tick, standing_};
  for (Lane& lane : lanes_) {
    lane.heard = std::max(lane.heard, tick);
    if (lane.partial && tick - lane.partial->last > kTogether) settle(lane);
    if (lane.partial || tick <= lane.end) continue;
    lane.end = tick;
    lane.at_end = lane.to_skip = 0;
    lane.signal.end_at(tick);
  }
  keep_bound();
}

void Recorder::cut_at(std::uint64_t tick) {
  left_at_.reset();
  ++futures_;
  if (furthest_ && furthest_->tick > tick) furthest_.reset();
  behind_furthest_ = false;
  for (Lane& lane : lanes_) {
    lane.heard = std::min(lane.heard, tick);
    if (lane.end <= tick) continue;
    lane.partial.reset();
    if (lane.around) {
      lane.around->cut_at(tick, lane);
    } else {
      lane.signal.cut_at(tick);
      if (lane.places) lane.places->cut_at(tick);
    }
    lane.end = tick;
    lane.at_end = lane.to_skip = 0;
    if (!is_moment(lane.signal)) continue;
    auto samples = lane.signal.samples(tick, tick);
    while (samples.next()) ++lane.at_end;
  }
}

void Recorder::begin_anew(const machine::Machine& machine) {
  ++futures_;
  furthest_.reset();
  behind_furthest_ = false;
  const std::vector<Lane> all = std::move(lanes_);
  lanes_.clear();
  for (const Lane& lane : all)
    add(lane.id, lane.signal.facts(), lane.source, machine, lane.places.has_value(),
        lane.around ? std::optional(lane.around->spec()) : std::nullopt);
}

/// What is halfway stored there is heard again.
void Recorder::begin_at(std::uint64_t tick) {
  for (Lane& lane : lanes_) {
    const Sample then = lane.signal.at(tick);
    const std::uint64_t hz = lane.signal.hz();
    lane.signal = Signal(lane.signal.facts(), hz, tick);
    if (!is_moment(lane.signal)) lane.signal.add({tick, then.value, then.state});
    if (lane.places) lane.places = Signal(lane.places->facts(), hz, tick);
    if (lane.around) lane.around.emplace(lane.around->spec(), lane);
    if (lane.end != tick) lane.at_end = lane.to_skip = 0;
    lane.end = lane.heard = tick;
  }
}

bool Recorder::has(unsigned id) const {
  return std::any_of(lanes_.begin(), lanes_.end(),
                     [id](const Lane& lane) { return lane.id == id; });
}

std::optional<Signal> Recorder::signal(unsigned id) const {
  for (const Lane& lane : lanes_) {
    if (lane.id != id) continue;
    Recorded out = lane;
    if (lane.around) out = lane.around->all(std::move(out), lane.heard);
    out.signal.end_at(lane.heard);
    if (!out.places) return out.signal;
    out.places->end_at(lane.heard);
    return out.signal.with_places(std::move(*out.places));
  }
  return std::nullopt;
}

void Recorder::mark(unsigned breakpoint, std::uint64_t tick) {
  for (Lane& lane : lanes_)
    if (lane.around && lane.around->spec().id == breakpoint) lane.around->mark(tick);
}

std::size_t Recorder::windows(unsigned id) const {
  for (const Lane& lane : lanes_)
    if (lane.id == id && lane.around) return lane.around->windows();
  return 0;
}

}  // namespace lucid::record
