// SPDX-License-Identifier: MIT
// Traces: when the recorder listens, and what becomes of what it has heard.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "session/quiet.h"

namespace lucid {

/// The interrupts whose handlers have not returned, and who calls whom.
record::Standing Session::Core::standing(const record::Recorder& recorder,
                                         const frames::Scope& on) {
  record::Standing out;
  if ((recorder.kinds() & bit(machine::EventKind::kReturn)) == 0) return out;
  const machine::Machine& machine = on.machine;
  const auto& vectors = machine.info().vectors;
  if (!machine.deepest_sp()) return out;  // since the reset nobody has called anybody
  const auto frames = frames::unwind(on.program, machine, on.flows);
  for (const frames::Frame& frame : frames) {
    switch (frame.end) {
      case CallersEnd::kNone:
      case CallersEnd::kStart:
      case CallersEnd::kTaskBegins: break;
      case CallersEnd::kNotOnStack:  // start-up code: nobody has called it
        if (!frame.interrupt) continue;
        break;
      default: out.all_calls = false;
    }
    if (frame.function == nullptr) continue;
    out.calls.insert(out.calls.begin(),
                     {frame.function->begin, frame.known ? frame.cfa - 1 : 0, frame.interrupt});
    if (!frame.interrupt) continue;
    for (const InterruptVector& vector : vectors)
      if (frames::is_handler_of(machine, *frame.function, vector)) {
        out.handlers.insert(out.handlers.begin(), vector.number);
        break;
      }
  }
  for (const InterruptVector& vector : vectors) {
    if (vector.number == 0 || vector.address != machine.pc()) continue;  // entered this moment
    out.handlers.push_back(vector.number);
    if (const auto target = machine.instruction_at(vector.address).target)
      out.calls.push_back({*target, 0, true});
  }
  return out;
}

/// Where the handler of each vector begins.
std::map<unsigned, std::uint32_t> Session::Core::handler_begins(const machine::Machine& of) {
  std::map<unsigned, std::uint32_t> out;
  for (const InterruptVector& vector : of.info().vectors)
    if (const auto target = of.instruction_at(vector.address).target; target)
      out.emplace(vector.number, *target);
  return out;
}

/// For lanes of calls.
void Session::Core::name_functions(record::Recorder& recorder, const frames::Scope& on) {
  if ((recorder.kinds() & bit(machine::EventKind::kCall)) == 0) return;
  std::vector<std::uint32_t> begins;
  for (const Function& function : on.program.functions()) begins.push_back(function.begin);
  std::sort(begins.begin(), begins.end());
  recorder.set_functions(std::move(begins), handler_begins(on.machine));
}

void Session::Core::listen(record::Recording& recording) {
  listening_ = &recording;
  record::Recorder& recorder = recording.own();
  name_functions(recorder, scope());
  if ((recorder.kinds() & bit(machine::EventKind::kCall)) != 0) machine().tell_calls(true);
  (void)machine().listen(recorder.kinds(), &recorder).has_value();
  machine().choose_moments(recorder.moments());
  for (auto& [chip, beside] : recording.beside())
    if (!beside.empty()) hear(chip, beside, false);
  sync_watches();
  if (looked_at_ != recorder.places()) {
    looked_at_ = recorder.places();
    sync_marks();
  }
  recorder.look(machine(), standing(recorder, scope()));
  stand_in_trace();
}

/// Locals that are traced may be looked at here, if it is this instruction that comes next.
void Session::Core::stand_in_trace() {
  if (listening_ != nullptr && looked_at_.count(machine().pc()) != 0 &&
      !machine().interrupt_imminent())
    listening_->own().stand(machine());
}

void Session::Core::stop_listening(record::Recording& recording) {
  (void)machine().listen(0, nullptr).has_value();
  stand_in_trace();
  recording.own().end_at(machine().ticks());
  for (auto& [chip, beside] : recording.beside())
    if (!beside.empty()) beside.end_at(machine().hear_out(chip));
  listening_ = nullptr;
  if (const auto trouble = recording.trouble(); trouble && listener_ != nullptr)
    listener_->on_note(
        fmt::format("{}; the oldest of what is traced is given up from here on", trouble->what));
  sync_watches();
  if (!looked_at_.empty()) {
    looked_at_.clear();
    sync_marks();
  }
}

/// Something has been done to the machine in the middle of a run.
void Session::Core::hear_on() {
  if (listening_ == nullptr) return;
  record::Recorder& recorder = listening_->own();
  recorder.end_at(machine().ticks());
  recorder.look(machine(), standing(recorder, scope()));
  stand_in_trace();
}

/// From where the timeline begins up to now. Error: there is no past, or somebody asked for a
/// pause.
Result<void> Session::Core::fill_from_start(record::Recording& recording) {
  const record::Moment present = now();
  begin_back();
  const auto kept = keep();
  bool done = true;
  {
    const Quiet quiet(*this);
    const Timeline::Copy* first = timeline_.first();
    restore(Point{first->at, first->machine});
    begin_traces(recording);
    acts_until_ = present.acts;
    listen(recording);
    machine::RunRequest request;
    request.until_ticks = present.tick;
    while (machine().ticks() < present.tick && !pause_requested_) {
      if (run(request).stop.why == machine::Stop::Why::kFault) break;
      stood_at_ = {machine().pc(), machine().ticks()};
    }
    happen();
    hear_on();
    done = machine().ticks() >= present.tick;
    stop_listening(recording);
  }
  running_ = false;
  pause_requested_ = false;
  auto back = return_to(*kept);
  if (!back) return fail(back.error());
  if (done) return {};
  return fail(ErrorCode::kUsage, "given up: nothing is traced",
              "without `from start` it is traced from here on");
}

Result<std::vector<Signal>> Session::Core::executed(const std::vector<std::string>& places) {
  std::vector<Signal> out;
  std::vector<std::vector<std::uint32_t>> addresses;
  Target target;
  const Timeline::Copy* first = timeline_.first();
  if (first == nullptr) return no_past();
  const std::uint64_t hz = machine().info().clock_hz;
  for (const std::string& place : places) {
    auto found = resolve(place);
    if (!found) return fail(found.error());
    for (const std::uint32_t address : *found) target.places.push_back({address, {}});
    addresses.push_back(std::move(*found));
    out.emplace_back(Signal::Facts{place, {}, Signal::Kind::kMoment}, hz, first->at.tick);
  }
  const record::Moment present = now();
  begin_back();
  const auto kept = keep();
  bool done = true;
  {
    const Quiet quiet(*this);
    restore(Point{first->at, first->machine});
    acts_until_ = present.acts;
    machine::RunRequest request;
    request.until_ticks = present.tick;
    const auto note = [&] {
      for (std::size_t i = 0; i < addresses.size(); ++i)
        if (std::find(addresses[i].begin(), addresses[i].end(), machine().pc()) !=
            addresses[i].end())
          out[i].add({machine().ticks(), 0});
    };
    if (!machine().interrupt_imminent()) note();
    while (machine().ticks() < present.tick && !pause_requested_) {
      const Outcome outcome = run(request, &target);
      // What the program stands before has not executed.
      if (outcome.kind == Outcome::Kind::kTarget && now() < present) note();
      if (outcome.kind != Outcome::Kind::kTarget && outcome.stop.why == machine::Stop::Why::kFault)
        break;
      stood_at_ = {machine().pc(), machine().ticks()};
    }
    done = machine().ticks() >= present.tick;
  }
  for (Signal& signal : out) signal.end_at(present.tick);
  running_ = false;
  pause_requested_ = false;
  if (auto back = return_to(*kept); !back) return fail(back.error());
  if (!done) return fail(ErrorCode::kUsage, "interrupted");
  return out;
}

Result<std::vector<Signal>> Session::executed(const std::vector<std::string>& places) {
  return core_->executed(places);
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
  Session::TraceSpec kept = spec;
  if (!found->whole.empty()) {
    kept.signal = found->whole;
    // By its own name, unless something else has that.
    const bool again = std::any_of(traced_.begin(), traced_.end(), [&](const Traced& other) {
      return other.spec.signal == kept.signal;
    });
    if (spec.name.empty()) {
      kept.name = again || be_free(found->facts.name) ? found->facts.name : kept.signal;
      if (auto is_free = be_free(kept.name); !is_free) return fail(is_free.error());
    }
    found->facts.name = kept.name;
  }
  if (spec.from_start && timeline_.first() == nullptr) return no_past();
  if (spec.from_start && running_)
    return fail(ErrorCode::kUsage, "the past is not gone through while the program runs",
                "pause first, or leave `from start` out");
  if (spec.around != 0) {
    if (find(spec.around) == nullptr) return no_breakpoint(spec.around);
    if (spec.before.count == 0 && spec.after.count == 0)
      return fail(ErrorCode::kUsage, "nothing is before and nothing after", "say how much to keep");
    if (spec.from_start)
      return fail(ErrorCode::kUsage, "breakpoints are not passed again for `from start`",
                  "leave one of the two out");
  }
  const unsigned id = next_id_;
  if (listening_ != nullptr) stop_listening(*listening_);  // it is posted
  record::Recording alone;
  const std::string chip = found->chip;
  add_lane(alone, id, kept, std::move(*found));
  if (!chip.empty() && !spec.from_start) begin_beside(chip, alone.of(chip));
  if (spec.from_start)
    if (auto filled = fill_from_start(alone); !filled) return fail(filled.error());
  ++next_id_;
  recording_.take_over(alone, id);
  traced_.push_back({id, std::move(kept)});
  if (running_ && !replaying_) listen(recording_);
  return view(traced_.back());
}

void Session::Core::add_lane(record::Recording& to, unsigned id, const Session::TraceSpec& spec,
                             Traceable found) {
  const Side on = side(found.chip);
  record::Recorder& recorder = to.of(found.chip);
  recorder.add(id, std::move(found.facts), std::move(found.source), on.machine(), spec.with_places,
               around(spec, on.machine().info().clock_hz));
}

/// What is traced begins now.
void Session::Core::begin_traces(record::Recording& recording) {
  recording.own().begin_anew(machine());
  for (auto& [chip, beside] : recording.beside())
    if (!beside.empty()) begin_beside(chip, beside);
}

std::optional<record::AroundSpec> Session::Core::around(const Session::TraceSpec& spec,
                                                        std::uint64_t hz) const {
  if (spec.around == 0) return std::nullopt;
  return record::AroundSpec{spec.around, to_ticks(spec.before, hz), to_ticks(spec.after, hz)};
}

Session::TraceView Session::Core::view(const Traced& traced) const {
  Session::TraceView out;
  out.id = traced.id;
  out.signal = traced.spec.signal;
  out.name = traced.name();
  out.around = traced.spec.around;
  out.around_gone = traced.spec.around != 0 &&
                    std::none_of(breakpoints_.begin(), breakpoints_.end(),
                                 [&](const Entry& e) { return e.point.id == traced.spec.around; });
  out.before = traced.spec.before;
  out.after = traced.spec.after;
  out.windows = recording_.windows(traced.id);
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
  out.bytes_in_file = signal->bytes_in_file();
  if (out.kind != Signal::Kind::kMoment || out.changes != 0)
    out.value = signal->text(signal->at(signal->end()));
  if (const Signal* places = signal->places(); places != nullptr)
    if (const Sample last = places->at(places->end()); last.known()) out.place = places->text(last);
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

/// What the instructions are that made a signal's changes; those that cannot have done so were only
/// under way when the hardware did.
Signal Session::Core::with_named_places(Signal signal, const Side& on) {
  std::map<std::uint64_t, std::string> names;
  auto all = signal.places()->samples();
  while (const auto sample = all.next()) {
    if (!sample->known()) continue;
    const auto [name, is_new] = names.try_emplace(sample->value);
    if (!is_new) continue;
    const auto address = static_cast<std::uint32_t>(sample->value);
    const Location where = location_in(on.program(), on.machine(), address);
    std::string text = where.function.empty() ? fmt::format("{:#06x}", address) : where.function;
    if (where.line != 0) text += fmt::format(", {}:{}", where.file, where.line);
    const machine::Machine& machine = on.machine();
    const bool stores = !machine.target().stays_in_registers(machine.instruction_at(address));
    name->second = stores ? text : "the hardware, in " + text;
  }
  Signal places = signal.places()->naming(std::move(names));
  return signal.with_places(std::move(places));
}

Result<Signal> Session::Core::signal(unsigned id) const {
  for (const Traced& traced : traced_) {
    if (traced.id != id) continue;
    if (traced.imported != nullptr) return *traced.imported;
    if (traced.decoder == nullptr) {
      Signal signal = *recording_.signal(id);
      if (signal.places() == nullptr) return signal;
      return with_named_places(std::move(signal), side(chip_in(traced.spec.signal)));
    }
    std::vector<std::uint64_t> of{recording_.futures()};
    for (const std::string& name : traced.decoder->wires) {
      const auto wire = signal(name);
      if (!wire) return fail(wire.error());
      for (const std::uint64_t fact :
           {wire->begin(), wire->end(), wire->changes(), wire->discarded()})
        of.push_back(fact);
    }
    if (traced.made == nullptr || traced.made->of != of) {
      auto decoded = this->decoded(*traced.decoder);
      if (!decoded) return fail(decoded.error());
      traced.made = std::make_shared<const Traced::Made>(
          Traced::Made{std::move(of), std::move(decoded->signal)});
    }
    return traced.made->signal;
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
  recording_.remove(*id);
  if ((recording_.own().kinds() & bit(machine::EventKind::kCall)) == 0) machine().tell_calls(false);
  traced_.erase(std::remove_if(traced_.begin(), traced_.end(),
                               [&](const Traced& traced) { return traced.id == *id; }),
                traced_.end());
  return {};
}

void Session::Core::clear_traces() { begin_traces(recording_); }

std::vector<std::string> Session::Core::trace_again() {
  std::vector<std::string> out;
  recording_.clear();
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
    add_lane(recording_, traced.id, traced.spec, std::move(*found));
    traced_.push_back(std::move(traced));
  }
  for (auto& [chip, beside] : recording_.beside())
    if (!beside.empty()) begin_beside(chip, beside);
  return out;
}

void Session::told(Picoseconds time) {
  core_->told(time, to_ticks(time, core_->machine().info().clock_hz));
}
Picoseconds Session::meant(Picoseconds time) const { return core_->meant(time); }
Result<Session::TraceView> Session::trace(const TraceSpec& spec) { return core_->trace(spec); }
std::vector<Session::TraceView> Session::traces() const { return core_->traces(); }
Result<void> Session::untrace(const std::string& name) { return core_->untrace(name); }
void Session::clear_traces() { core_->clear_traces(); }
Result<void> Session::put_traces_into(const std::string& path) {
  std::shared_ptr<SignalFile> file;
  if (!path.empty()) {
    auto made = SignalFile::make(path);
    if (!made) return fail(made.error());
    file = std::move(*made);
  }
  core_->recording_.set_file(std::move(file));
  return {};
}
void Session::set_trace_bound(std::size_t bytes) { core_->recording_.set_bound(bytes); }
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
