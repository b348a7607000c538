// SPDX-License-Identifier: MIT
#include "machine/companions.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/hash.h"
#include "base/text.h"
#include "lucid/time.h"

namespace lucid::machine {
namespace {

using u64 = std::uint64_t;
using u8 = std::uint8_t;

// Picoseconds.
constexpr u64 kLeastAhead = 2'000'000, kMostAhead = 1'000'000'000;
constexpr u64 kMostBehind = 2'000'000'000;  ///< of a base
// An instruction, or the entry of an interrupt, is over by then; a longer one is noticed.
constexpr u64 kMargin = 16;

/// What it has said is not to be heard.
void silence(Machine& machine) {
  static_cast<void>(machine.take_serial());
  static_cast<void>(machine.take_notes());
}

/// What is due at that tick happens, too, if it stands there already.
template <class Stand>
void run_until(Machine& machine, u64 tick, bool& stopped, Stand stands) {
  RunRequest request;
  request.until_ticks = tick;
  request.pass_first_breakpoint = true;
  while (!stopped) {
    stopped = machine.run(request).why == Stop::Why::kFault;
    stands(machine);
    if (machine.ticks() >= tick) break;
  }
}

}  // namespace

u64 sure_tick(u64 tick, u64 hz, u64 their_hz) {
  const u64 open = to_ticks({to_time(tick, hz).count + 1}, their_hz);
  return open - std::min<u64>(open, 1);
}

Companions::Companions(const Group& group, u64 hz)
    : group_(group), hz_(hz), runners_(group.companions.size()) {}

Companions::~Companions() = default;

u64 Companions::hz(unsigned chip) const {
  return chip == 0 ? hz_ : group_.companions[chip - 1].at_power_on->info().clock_hz;
}

void Companions::power_on(Host& host) {
  GroupState& group = host.group();
  const std::size_t count = group_.companions.size();
  runners_.clear();
  runners_.resize(count);
  group.bases.clear();
  for (const Group::Companion& companion : group_.companions)
    group.bases.push_back(companion.at_power_on);
  group.delivered.assign(count, 0);
  group.halted.assign(count, 0);
  std::size_t places = 0;
  for (const auto& wire : group_.wires) places += wire.size();
  group.offers.assign(places, 0);
  group.ahead = kLeastAhead;
  host.sync_at(0);
}

void Companions::forget() {
  for (Runner& runner : runners_) runner.ahead_holds = false;
}

/// Until it offers something that has not been delivered, or that time.
void Companions::look_ahead(const GroupState& group, unsigned which, u64 until) {
  Runner& runner = runners_[which];
  if (group.halted[which] != 0) return;
  if (!runner.ahead) runner.ahead = group.bases[which]->clone();
  Machine& ahead = *runner.ahead;
  if (!runner.ahead_holds) {
    static_cast<void>(ahead.assume(*group.bases[which]));
    runner.offers.clear();
    runner.stopped = false;
    runner.ahead_holds = true;
  }
  RunRequest request;
  request.until_ticks = to_ticks({until}, hz(which + 1));
  request.events = bit(EventKind::kWire);
  request.pass_first_breakpoint = true;
  while (runner.offers.empty() && !runner.stopped && ahead.ticks() < request.until_ticks) {
    runner.stopped = ahead.run(request).why == Stop::Why::kFault;
    for (const WireChange& offer : ahead.take_offers())
      if (offer.tick > group.delivered[which]) runner.offers.push_back(offer);
    silence(ahead);
  }
}

/// The machine that the next base is made from, at the one that is.
Machine& Companions::stand_at_base(const GroupState& group, unsigned which) {
  Runner& runner = runners_[which];
  const auto& base = group.bases[which];
  if (!runner.sure)
    runner.sure = base->clone();
  else if (runner.sure_at != base)
    static_cast<void>(runner.sure->assume(*base));
  if (runner.sure_at != base && runner.ear) runner.ear->listen_to(*runner.sure);
  runner.sure_at = base;
  return *runner.sure;
}

/// Where `sure` stands is the base from now on. One that nobody else has is written over.
void Companions::make_base(GroupState& group, unsigned which) {
  Runner& runner = runners_[which];
  auto& base = group.bases[which];
  runner.sure_at.reset();
  if (runner.seen_from == base) runner.seen_from.reset();
  if (base.use_count() != 1 || !std::const_pointer_cast<Machine>(base)->assume(*runner.sure))
    base = runner.sure->clone();
  if (runner.ear) runner.ear->let_go(*std::const_pointer_cast<Machine>(base));
  runner.sure_at = base;
}

void Companions::advance(Host& host, unsigned which, u64 until, u64 at_most) {
  if (run_on(host, which, until, at_most)) make_base(host.group(), which);
}

/// Runs `sure` on from the base to about a tick of its own. False: it would be beyond `at_most`
/// then, or has offered something on the way that is still to be delivered; it stays at the base.
bool Companions::run_on(Host& host, unsigned which, u64 until, u64 at_most) {
  GroupState& group = host.group();
  Runner& runner = runners_[which];
  if (group.halted[which] != 0) return false;
  Machine& sure = stand_at_base(group, which);
  RunRequest request;
  request.until_ticks = until;
  request.pass_first_breakpoint = true;
  Stop stop;
  do {
    stop = sure.run(request);
    if (runner.ear) runner.ear->stand(sure);
  } while (sure.ticks() < until && stop.why != Stop::Why::kFault);
  bool good = sure.ticks() <= at_most;
  for (const WireChange& offer : sure.take_offers())
    good = good && offer.tick <= group.delivered[which];
  if (!good) {
    silence(sure);
    runner.sure_at.reset();
    stand_at_base(group, which);
    return false;
  }
  if (runner.ear) runner.ear->tell(UINT64_MAX);
  say(host, which);
  if (stop.why == Stop::Why::kFault) {
    group.halted[which] = 1;
    host.note(fmt::format("{}: {}; it stands still from here", group_.companions[which].name,
                          fault_text(stop)));
  }
  return true;
}

/// Passes on what a companion has sent and what is to be said of it.
void Companions::say(Host& host, unsigned which) {
  Machine& machine = *runners_[which].sure;
  const std::string& name = group_.companions[which].name;
  for (const SerialText& text : machine.take_serial())
    host.say(fmt::format("{}.{}", name, text.port), text.bytes);
  for (const Note& note : machine.take_notes()) host.note(fmt::format("{}: {}", name, note.text));
}

/// Something reaches a companion.
void Companions::send(Host& host, unsigned which, WireChange change) {
  GroupState& group = host.group();
  Runner& runner = runners_[which];
  const u64 until = change.tick - std::min(change.tick, kMargin);
  const bool moved = run_on(host, which, until, change.tick);
  const bool halted = group.halted[which] != 0;
  if (!halted) runner.sure->receive(change);
  if (moved || !halted) make_base(group, which);
  if (!halted) runner.ahead_holds = false;
}

/// A chip has changed what it does to a wire: all others on it get what the rest of them do.
void Companions::deliver(Host& host, unsigned from, const WireChange& change, u64 time) {
  std::vector<u8>& offers = host.group().offers;
  std::size_t first = 0;
  for (const auto& wire : group_.wires) {
    for (std::size_t at = 0; at < wire.size(); ++at) {
      if (wire[at].chip != from || wire[at].number != change.pin) continue;
      offers[first + at] = change.offer;
      for (std::size_t to = 0; to < wire.size(); ++to) {
        if (to == at) continue;
        unsigned all = 0;
        for (std::size_t i = 0; i < wire.size(); ++i)
          if (i != to) all |= offers[first + i];
        if (wire[to].chip == 0)
          host.join(wire[to].number, static_cast<u8>(all));
        else
          send(host, wire[to].chip - 1,
               {to_ticks({time}, hz(wire[to].chip)), wire[to].number, static_cast<u8>(all)});
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

void Companions::sync(Host& host) {
  GroupState& group = host.group();
  const u64 tick = host.tick();
  const u64 now = to_time(tick, hz(0)).count;
  bool quiet = true;
  u64 horizon = now + (group_.ahead.count != 0 ? group_.ahead.count : group.ahead);
  for (const WireChange& offer : std::exchange(host.offers(), {})) {
    if (offer.tick > tick) {  // by the end of the instruction
      host.offers().push_back(offer);
      horizon = std::min(horizon, to_time(offer.tick, hz(0)).count);
      continue;
    }
    deliver(host, 0, offer, now);
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
      deliver(host, next.which + 1, offer, next.time);
    }
    next = next_offer(group, horizon);
  }
  for (unsigned i = 0; i < runners_.size(); ++i) {
    const u64 at = to_time(group.bases[i]->ticks(), hz(i + 1)).count;
    if (now < at + kMostBehind) continue;
    const u64 theirs = to_ticks({now}, hz(i + 1));
    if (theirs > kMargin) advance(host, i, theirs - kMargin, theirs);
  }
  group.ahead =
      quiet ? std::min(2 * group.ahead, kMostAhead) : std::max(group.ahead / 2, kLeastAhead);
  host.sync_at(std::max(to_ticks({next.time}, hz(0)), tick + 1));
}

void Companions::catch_up(Host& host) {
  const u64 now = to_time(host.tick(), hz(0)).count;
  for (unsigned i = 0; i < runners_.size(); ++i) {
    const u64 theirs = to_ticks({now}, hz(i + 1));
    if (theirs > host.group().bases[i]->ticks() + kMargin)
      advance(host, i, theirs - kMargin, theirs);
  }
}

const Machine& Companions::as_now(const GroupState& group, u64 tick, unsigned which) {
  Runner& runner = runners_[which];
  const auto& base = group.bases[which];
  const u64 now = to_time(tick, hz(0)).count;
  // From where it was last seen, if nothing has reached it since.
  if (!runner.seen) runner.seen = base->clone();
  if (runner.seen_from != base || now < runner.seen_at) {
    static_cast<void>(runner.seen->assume(*base));
    runner.seen_stopped = group.halted[which] != 0;
  }
  runner.seen_from = base;
  runner.seen_at = now;
  Machine& seen = *runner.seen;
  run_until(seen, to_ticks({now}, hz(which + 1)), runner.seen_stopped, [](Machine&) {});
  silence(seen);
  static_cast<void>(seen.take_offers());
  return seen;
}

u64 Companions::hash(const GroupState& group, u64 tick) {
  base::Hasher hasher;
  for (const u8 offer : group.offers) hasher(offer);
  for (unsigned i = 0; i < runners_.size(); ++i) hasher(as_now(group, tick, i).hash());
  return hasher.value();
}

std::string Companions::describe(const GroupState& group, u64 tick, unsigned which) {
  const Machine& now = as_now(group, tick, which);
  const char* does = group.halted[which] != 0 ? "halted by a fault"
                     : now.asleep()           ? "asleep"
                                              : "running";
  return fmt::format("{} at {} MHz, {} at 0x{:04x}", now.info().name,
                     static_cast<double>(now.info().clock_hz) / 1e6, does, now.pc());
}

// Who listens to them
// -------------------------------------------------------------------------------

/// From where it stands now on.
void Companions::Ear::listen_to(Machine& machine) {
  records_.clear();
  static_cast<void>(machine.listen(hearing_.kinds, this));
  machine.choose_moments(hearing_.moments);
  for (const auto& [address, kinds] : hearing_.taps)
    static_cast<void>(machine.watch(address, kinds));
  machine.tell_calls(hearing_.calls);
  for (const std::uint32_t place : hearing_.places)
    static_cast<void>(machine.set_breakpoint(place, true));
  stand(machine);
}

void Companions::Ear::let_go(Machine& copy) const {
  for (const std::uint32_t place : hearing_.places)
    static_cast<void>(copy.set_breakpoint(place, false));
}

void Companions::Ear::stand(Machine& machine) {
  const std::vector<std::uint32_t>& places = hearing_.places;
  if (!std::binary_search(places.begin(), places.end(), machine.pc()) ||
      machine.interrupt_imminent())
    return;
  Record record{machine.ticks(), EventKind::kLook, 0, 0, machine.pc(), false};
  record.number = hearing_.look(machine);
  records_.push_back(record);
}

void Companions::Ear::leave(Machine& machine) const {
  static_cast<void>(machine.listen(0, nullptr));
  for (const auto& [address, kinds] : hearing_.taps) static_cast<void>(machine.watch(address, 0));
  let_go(machine);
}

void Companions::Ear::take(const Record* records, std::size_t count) {
  records_.insert(records_.end(), records, records + count);
}

/// Behind that tick it may still become otherwise. What the hardware does within an instruction can
/// come behind what the instruction does.
void Companions::Ear::tell(u64 until) {
  records_.erase(std::remove_if(records_.begin(), records_.end(),
                                [until](const Record& record) { return record.tick > until; }),
                 records_.end());
  if (!records_.empty()) hearing_.sink->take(records_.data(), records_.size());
  records_.clear();
}

const Machine& Companions::hear(const GroupState& group, unsigned which, const Hearing& hearing) {
  Runner& runner = runners_[which];
  if (runner.ear) runner.ear->leave(*runner.sure);
  runner.ear = std::make_unique<Ear>(hearing);
  runner.sure_at.reset();
  return stand_at_base(group, which);
}

u64 Companions::hear_out(const GroupState& group, u64 tick, unsigned which) {
  const u64 until = sure_tick(tick, hz(0), hz(which + 1));
  Runner& runner = runners_[which];
  if (!runner.ear) return until;
  Machine& sure = stand_at_base(group, which);
  bool stopped = group.halted[which] != 0;
  run_until(sure, until, stopped, [&runner](Machine& at) { runner.ear->stand(at); });
  static_cast<void>(sure.take_offers());
  silence(sure);
  runner.ear->tell(until);
  runner.ear->leave(sure);
  runner.ear.reset();
  runner.sure_at.reset();  // it is beyond the base
  return until;
}

std::optional<unsigned> Companions::find(const std::string& name) const {
  for (unsigned i = 0; i < group_.companions.size(); ++i)
    if (group_.companions[i].name == name) return i;
  return std::nullopt;
}

// The group
// -----------------------------------------------------------------------------------------

std::vector<std::string> Group::pins_to(unsigned chip) const {
  std::vector<std::string> out;
  for (const auto& wire : wires)
    if (std::any_of(wire.begin(), wire.end(), [&](const Place& p) { return p.chip == chip; }))
      for (const Place& place : wire)
        if (place.chip == 0) out.push_back(place.pin);
  return out;
}

std::vector<std::string> Group::pins_of(unsigned chip) const {
  std::vector<std::string> out;
  for (const auto& wire : wires)
    for (const Place& place : wire)
      if (place.chip == chip) out.push_back(place.pin);
  return out;
}

void Group::join(std::vector<Place> places) {
  const auto same = [](const Place& a, const Place& b) {
    return a.chip == b.chip && base::equal_ignoring_case(a.pin, b.pin);
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

}  // namespace lucid::machine
