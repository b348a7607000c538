// SPDX-License-Identifier: MIT
#include "avr/chip/companions.h"

#include <fmt/format.h>

#include "avr/chip/avr_machine.h"
#include "avr/chip/engine.h"
#include "base/text.h"
#include "lucid/time.h"

namespace lucid::avr {
namespace {

// Picoseconds.
constexpr u64 kLeastAhead = 2'000'000, kMostAhead = 1'000'000'000;
constexpr u64 kMostBehind = 2'000'000'000;  ///< of a base
// An instruction, or the entry of an interrupt, is over by then; a longer one is noticed.
constexpr u64 kMargin = 16;

}  // namespace

void Bus::offer(u8 pin, u8 offer, u64 cycle) const {
  outputs_.offers.push_back({world.tick_at(cycle), pin, offer});
  happened(machine::EventKind::kWire);
  const unsigned slot = world.sync_slot();
  if (outputs_.companions != nullptr && cycle < world.due(slot))
    world.schedule_tick(slot, world.tick_at(cycle));
}

void Bus::sync(u64 cycle) const { outputs_.companions->sync(*this, cycle); }

void WireEnd::on_event(const Bus& bus, unsigned slot, u64 due) const {
  World& world = bus.world;
  if (world.sync_slot() == slot) {
    bus.sync(due);
    return;
  }
  while (!world.inbox.empty() && world.cycle_at(world.inbox.front().tick) <= due) {
    const WireChange change = world.inbox.front();
    world.inbox.erase(world.inbox.begin());
    ports_[change.pin / 8U]->join(bus, change.pin % 8U, change.offer, due);
  }
  bus.schedule_tick(slot_, world.inbox.empty() ? kNever : world.inbox.front().tick);
}

Companions::Companions(const Fabric& fabric)
    : fabric_(fabric), runners_(fabric.companions.size()) {}

Companions::~Companions() = default;

u64 Companions::hz(unsigned chip) const {
  return chip == 0 ? fabric_.info.clock_hz
                   : fabric_.companions[chip - 1].at_power_on->info().clock_hz;
}

u64 Companions::time_of(const World& world) const {
  return to_time(world.tick_at(world.cpu.now), hz(0)).count;
}

void Companions::power_on(World& world) {
  GroupState& group = world.group;
  const std::size_t count = fabric_.companions.size();
  runners_.clear();
  runners_.resize(count);
  group.bases.clear();
  for (const Fabric::Companion& companion : fabric_.companions)
    group.bases.push_back(companion.at_power_on);
  group.delivered.assign(count, 0);
  group.halted.assign(count, 0);
  std::size_t places = 0;
  for (const auto& wire : fabric_.wires) places += wire.size();
  group.offers.assign(places, 0);
  group.ahead = kLeastAhead;
  world.schedule_tick(world.sync_slot(), 0);
}

/// Until it offers something that has not been delivered, or that time.
void Companions::look_ahead(const GroupState& group, unsigned which, u64 until) {
  Runner& runner = runners_[which];
  if (group.halted[which] != 0) return;
  if (!runner.ahead) runner.ahead = std::make_unique<AvrMachine>(*group.bases[which]);
  AvrMachine& ahead = *runner.ahead;
  if (!runner.ahead_holds) {
    ahead.assume(*group.bases[which]);
    runner.offers.clear();
    runner.stopped = false;
    runner.ahead_holds = true;
  }
  machine::RunRequest request;
  request.until_ticks = to_ticks({until}, hz(which + 1));
  request.events = machine::bit(machine::EventKind::kWire);
  request.pass_first_breakpoint = true;
  while (runner.offers.empty() && !runner.stopped && ahead.ticks() < request.until_ticks) {
    runner.stopped = ahead.run(request).why == machine::Stop::Why::kFault;
    for (const WireChange& offer : std::exchange(ahead.outputs_.offers, {}))
      if (offer.tick > group.delivered[which]) runner.offers.push_back(offer);
    ahead.outputs_.serial.clear();
    ahead.outputs_.notes.clear();
  }
}

/// Moves a companion's base to about a tick of its own, if it is not beyond `at_most` then and has
/// offered nothing on the way that is still to be delivered.
bool Companions::advance(const Bus& bus, unsigned which, u64 until, u64 at_most) {
  GroupState& group = bus.world.group;
  Runner& runner = runners_[which];
  if (group.halted[which] != 0) return false;
  if (!runner.sure) runner.sure = std::make_unique<AvrMachine>(*group.bases[which]);
  AvrMachine& sure = *runner.sure;
  machine::RunRequest request;
  request.until_ticks = until;
  request.pass_first_breakpoint = true;
  machine::Stop stop;
  do {
    stop = sure.run(request);
  } while (sure.ticks() < until && stop.why != machine::Stop::Why::kFault);
  bool good = sure.ticks() <= at_most;
  for (const WireChange& offer : std::exchange(sure.outputs_.offers, {}))
    good = good && offer.tick <= group.delivered[which];
  if (!good) {
    sure.outputs_.serial.clear();
    sure.outputs_.notes.clear();
    sure.assume(*group.bases[which]);
    return false;
  }
  if (stop.why == machine::Stop::Why::kFault) {
    group.halted[which] = 1;
    sure.outputs_.notes.push_back(machine::fault_text(stop) + "; it stands still from here");
  }
  say(bus, which);
  group.bases[which] = std::make_shared<const AvrMachine>(sure);
  return true;
}

/// Passes on what a companion has sent and what is to be said of it.
void Companions::say(const Bus& bus, unsigned which) {
  Outputs& outputs = runners_[which].sure->outputs_;
  const std::string& name = fabric_.companions[which].name;
  for (const SerialText& text : std::exchange(outputs.serial, {})) {
    const std::string port = fmt::format("{}.{}", name, text.port);
    for (const char c : text.bytes) bus.transmit(port, static_cast<u8>(c));
  }
  for (const std::string& note : std::exchange(outputs.notes, {}))
    bus.note(fmt::format("{}: {}", name, note));
}

/// Something reaches a companion.
void Companions::send(const Bus& bus, unsigned which, WireChange change) {
  GroupState& group = bus.world.group;
  Runner& runner = runners_[which];
  advance(bus, which, change.tick - std::min(change.tick, kMargin), change.tick);
  if (group.halted[which] != 0) return;
  AvrMachine& sure = *runner.sure;
  World& world = sure.world_;
  world.inbox.push_back(change);
  if (world.inbox.size() == 1) world.schedule_tick(sure.fabric_->wire_slot, change.tick);
  group.bases[which] = std::make_shared<const AvrMachine>(sure);
  runner.ahead_holds = false;
}

/// A chip has changed what it does to a wire: all others on it get what the rest of them do.
void Companions::deliver(const Bus& bus, unsigned from, const WireChange& change, u64 time,
                         u64 cycle) {
  std::vector<u8>& offers = bus.world.group.offers;
  std::size_t first = 0;
  for (const auto& wire : fabric_.wires) {
    for (std::size_t at = 0; at < wire.size(); ++at) {
      const Pin& pin = wire[at].pin;
      if (wire[at].chip != from || pin.port->number(pin.bit) != change.pin) continue;
      offers[first + at] = change.offer;
      for (std::size_t to = 0; to < wire.size(); ++to) {
        if (to == at) continue;
        unsigned all = 0;
        for (std::size_t i = 0; i < wire.size(); ++i)
          if (i != to) all |= offers[first + i];
        const Pin& there = wire[to].pin;
        if (wire[to].chip == 0)
          there.port->join(bus, there.bit, static_cast<u8>(all), cycle);
        else
          send(bus, wire[to].chip - 1,
               {to_ticks({time}, hz(wire[to].chip)), there.port->number(there.bit),
                static_cast<u8>(all)});
      }
    }
    first += wire.size();
  }
}

/// What a companion offers first, of several at once the first on the bench; or the horizon.
Companions::Next Companions::next_offer(const GroupState& group, u64 horizon) {
  Next next{horizon, 0, false};
  for (unsigned i = 0; i < runners_.size(); ++i) {
    look_ahead(group, i, next.time);
    if (runners_[i].offers.empty()) continue;
    const u64 when = to_time(runners_[i].offers.front().tick, hz(i + 1)).count;
    if (when < next.time) next = {when, i, true};
  }
  return next;
}

void Companions::sync(const Bus& bus, u64 cycle) {
  World& world = bus.world;
  GroupState& group = world.group;
  const u64 tick = world.tick_at(cycle);
  const u64 now = to_time(tick, hz(0)).count;
  bool quiet = true;
  u64 horizon =
      now + (fabric_.companions_ahead.count != 0 ? fabric_.companions_ahead.count : group.ahead);
  for (const WireChange& offer : std::exchange(bus.outputs_.offers, {})) {
    if (offer.tick > tick) {  // by the end of the instruction
      bus.outputs_.offers.push_back(offer);
      horizon = std::min(horizon, to_time(offer.tick, hz(0)).count);
      continue;
    }
    deliver(bus, 0, offer, now, cycle);
    quiet = false;
  }
  Next next = next_offer(group, horizon);
  while (next.offered && to_ticks({next.time}, hz(0)) <= tick) {
    quiet = false;
    auto& offers = runners_[next.which].offers;
    const u64 first = offers.front().tick;
    group.delivered[next.which] = first;
    while (!offers.empty() && offers.front().tick == first) {
      const WireChange offer = offers.front();
      offers.erase(offers.begin());
      deliver(bus, next.which + 1, offer, next.time, cycle);
    }
    next = next_offer(group, horizon);
  }
  for (unsigned i = 0; i < runners_.size(); ++i) {
    const u64 at = to_time(group.bases[i]->ticks(), hz(i + 1)).count;
    if (now < at + kMostBehind) continue;
    const u64 theirs = to_ticks({now}, hz(i + 1));
    if (theirs > kMargin) advance(bus, i, theirs - kMargin, theirs);
  }
  group.ahead =
      quiet ? std::min(2 * group.ahead, kMostAhead) : std::max(group.ahead / 2, kLeastAhead);
  world.schedule_tick(world.sync_slot(), std::max(to_ticks({next.time}, hz(0)), tick + 1));
}

void Companions::catch_up(const Bus& bus) {
  const u64 now = time_of(bus.world);
  for (unsigned i = 0; i < runners_.size(); ++i) {
    const u64 theirs = to_ticks({now}, hz(i + 1));
    if (theirs > bus.world.group.bases[i]->ticks() + kMargin)
      advance(bus, i, theirs - kMargin, theirs);
  }
}

const AvrMachine& Companions::as_now(const World& world, unsigned which) {
  Runner& runner = runners_[which];
  const auto& base = world.group.bases[which];
  const u64 now = time_of(world);
  // From where it was last seen, if nothing has reached it since.
  if (!runner.seen) runner.seen = std::make_unique<AvrMachine>(*base);
  if (runner.seen_from != base || now < runner.seen_at) {
    runner.seen->assume(*base);
    runner.seen_stopped = world.group.halted[which] != 0;
  }
  runner.seen_from = base;
  runner.seen_at = now;
  AvrMachine& seen = *runner.seen;
  machine::RunRequest request;
  request.until_ticks = to_ticks({now}, hz(which + 1));
  request.pass_first_breakpoint = true;
  while (!runner.seen_stopped && seen.ticks() < request.until_ticks)
    runner.seen_stopped = seen.run(request).why == machine::Stop::Why::kFault;
  seen.outputs_.serial.clear();
  seen.outputs_.offers.clear();
  return seen;
}

u64 Companions::hash(const World& world) {
  base::Hasher hasher;
  hasher(world.hash());
  for (const u8 offer : world.group.offers) hasher(offer);
  for (unsigned i = 0; i < runners_.size(); ++i) hasher(as_now(world, i).world_.hash());
  return hasher.value();
}

std::string Companions::describe(const World& world, unsigned which) {
  const AvrMachine& now = as_now(world, which);
  const char* does = world.group.halted[which] != 0 ? "halted by a fault"
                     : now.asleep()                 ? "asleep"
                                                    : "running";
  return fmt::format("{} at {} MHz, {} at 0x{:04x}", now.info().name,
                     static_cast<double>(now.info().clock_hz) / 1e6, does, now.pc());
}

// Putting them together ---------------------------------------------------------------------------

Result<void> Fabric::add_wire_end() {
  if (next_slot_ == kEventSlots)
    return fail(ErrorCode::kOutOfRange,
                info.name + " has so many parts that there is no room for wires");
  wire_slot = next_slot_;
  add<WireEnd>(ports, next_slot_);
  enlist(*others.back());
  return {};
}

std::vector<std::string> Fabric::pins_to(unsigned chip) const {
  std::vector<std::string> out;
  for (const auto& wire : wires)
    if (std::any_of(wire.begin(), wire.end(), [&](const Place& p) { return p.chip == chip; }))
      for (const Place& place : wire)
        if (place.chip == 0) out.push_back(place.pin.port->pin_name(place.pin.bit));
  return out;
}

Result<void> Fabric::add_companions(const Chip::Options& options) {
  std::vector<std::vector<std::string>> wanted = options.wires;
  for (const auto& part : options.parts)
    if (const std::string port = part->joins(); !port.empty()) {
      const auto usart = std::find_if(usarts.begin(), usarts.end(), [&](const auto& u) {
        return base::equal_ignoring_case(u->name(), port);
      });
      if (usart == usarts.end())
        return fail(ErrorCode::kNotFound,
                    fmt::format("{}: {} has no serial port '{}'", part->name(), info.name, port));
      const auto [transmit, receive] = (*usart)->lines();
      wanted.push_back(
          {transmit.port->pin_name(transmit.bit), receive.port->pin_name(receive.bit)});
    }
  if (options.companions.empty() && wanted.empty()) return {};
  companions_ahead = options.companions_ahead;
  std::vector<std::shared_ptr<Fabric>> fabrics;
  std::vector<std::string> names;
  for (const Chip::Companion& companion : options.companions) {
    if (companion.name.empty() || companion.name.find('.') != std::string::npos ||
        std::find(names.begin(), names.end(), companion.name) != names.end())
      return fail(ErrorCode::kOutOfRange, "'" + companion.name + "' cannot be a companion's name",
                  "give each a name of its own, without a point");
    if (!companion.options.companions.empty())
      return fail(ErrorCode::kUnsupported, companion.name + ": a companion has none of its own",
                  "name them all beside one chip, with the wires between them");
    auto fabric = make(companion.options);
    if (!fabric) {
      Error error = fabric.error();
      error.what = companion.name + ": " + error.what;
      return fail(std::move(error));
    }
    if (auto added = (*fabric)->add_wire_end(); !added) return added;
    fabrics.push_back(std::move(*fabric));
    names.push_back(companion.name);
  }
  if (auto added = add_wire_end(); !added) return added;
  for (const auto& wire : wanted) {
    std::vector<Place> places;
    for (const std::string& text : wire) {
      const std::size_t point = text.find('.');
      const std::string whose = point == std::string::npos ? "" : text.substr(0, point);
      const auto found = std::find(names.begin(), names.end(), whose);
      if (!whose.empty() && found == names.end())
        return fail(ErrorCode::kNotFound,
                    fmt::format("wire to '{}': there is no companion '{}'", text, whose),
                    base::did_you_mean(whose, names));
      const auto chip = whose.empty() ? 0U : static_cast<unsigned>(found - names.begin()) + 1;
      Fabric& fabric = chip == 0 ? *this : *fabrics[chip - 1];
      const auto pin = fabric.find_pin(point == std::string::npos ? text : text.substr(point + 1));
      if (!pin) {
        Error error = pin.error();
        error.what = "wire to '" + text + "': " + error.what;
        return fail(std::move(error));
      }
      for (const auto& port : fabric.ports)
        if (port.get() == pin->port) port->add_wire(pin->bit);
      places.push_back({chip, *pin});
    }
    join(std::move(places));
  }
  for (std::size_t i = 0; i < fabrics.size(); ++i) {
    const Chip::Companion& companion = options.companions[i];
    auto machine = std::make_shared<AvrMachine>(fabrics[i], companion.options);
    if (auto loaded = machine->load(companion.image); !loaded) {
      Error error = loaded.error();
      error.what = companion.name + ": " + error.what;
      return fail(std::move(error));
    }
    companions.push_back({companion.name, std::move(machine)});
  }
  return {};
}

/// Wires that share a pin are one.
void Fabric::join(std::vector<Place> places) {
  const auto same = [](const Place& a, const Place& b) {
    return a.chip == b.chip && a.pin == b.pin;
  };
  for (auto wire = wires.begin(); wire != wires.end();) {
    const bool shares = std::any_of(wire->begin(), wire->end(), [&](const Place& a) {
      return std::any_of(places.begin(), places.end(), [&](const Place& b) { return same(a, b); });
    });
    if (!shares) {
      ++wire;
      continue;
    }
    places.insert(places.begin(), wire->begin(), wire->end());
    wire = wires.erase(wire);
  }
  std::vector<Place> once;
  for (const Place& place : places)
    if (std::none_of(once.begin(), once.end(), [&](const Place& p) { return same(p, place); }))
      once.push_back(place);
  wires.push_back(std::move(once));
}

}  // namespace lucid::avr
