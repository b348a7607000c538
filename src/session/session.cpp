// SPDX-License-Identifier: MIT
#include "lucid/session.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/hash.h"
#include "base/text.h"
#include "session/checks.h"

namespace lucid {

/// With the names that programmers give to handlers of interrupts.
Program Session::Core::named(const Program& program, const machine::Machine& machine) {
  const machine::Target& target = machine.target();
  std::map<std::string, std::string> titles;
  for (const InterruptVector& vector : machine.info().vectors)
    if (std::string title = target.handler_title(vector); vector.number != 0 && !title.empty())
      titles[target.handler_name(vector.number)] = std::move(title);
  return program.with_names([&](const std::string& symbol) {
    const auto found = titles.find(symbol);
    return found == titles.end() ? std::string() : found->second;
  });
}

Result<std::vector<std::string>> Session::Core::open(const std::string& path) {
  auto image = Image::open(path);
  if (!image) return fail(image.error());
  std::vector<std::string> warnings;
  if (!image->chip().empty() && !base::equal_ignoring_case(image->chip(), machine().info().name))
    warnings.push_back(fmt::format("the image was built for {}, this is {}: choose with --chip",
                                   image->chip(), machine().info().name));
  if (auto loaded = machine().load(*image); !loaded) return fail(loaded.error());
  take(*image, path, warnings);
  return warnings;
}

/// What the chip has loaded is what all is looked at through, from here on.
void Session::Core::take(const Image& image, const std::string& path,
                         std::vector<std::string>& warnings) {
  timeline_.begin();
  watch_meanings_.clear();
  program_ = named(Program::read(image), machine());
  flows_.forget();
  stack_switches_.reset();
  came_from_.clear();
  ++loads_;
  image_path_ = path;
  base::Hasher hasher;
  for (const Segment& segment : image.segments()) {
    hasher(segment.address.space, segment.address.offset);
    hasher.bytes(segment.bytes.data(), segment.bytes.size());
  }
  image_hash_ = hasher.value();
  sources_.set_image_path(path);
  warnings.insert(warnings.end(), program_.warnings().begin(), program_.warnings().end());

  // Checkouts level times, so a difference counts from a minute on.
  constexpr std::int64_t kTolerance = 60;
  const std::int64_t built = session::changed_at(path);
  std::string newer;
  for (const SourceFile& file : program_.files()) {
    if (file.lines_with_code.empty()) continue;
    const auto& text = sources_.text(file);
    if (!text.path.empty() && text.changed > built + kTolerance) newer += " " + file.name;
  }
  if (!newer.empty())
    warnings.push_back("the image is older than its source:" + newer +
                       "; lines may not match, build it again and `reload`");

  no_handler_.reset();  // the start-up code's name for it
  const machine::StartUpNames names = machine().target().start_up_names();
  if (const Symbol* none = program_.find_symbol(names.no_handler);
      none != nullptr && none->address.space == Space::kCode)
    no_handler_ = none->address.offset;
  const Symbol* end = program_.find_symbol(names.data_end);
  if (end == nullptr) end = program_.find_symbol("_end");
  const Symbol* begin = program_.find_symbol(names.data_begin);
  static_end_.reset();
  static_begin_.reset();
  if (end != nullptr && end->address.space == Space::kData) static_end_ = end->address.offset;
  if (begin != nullptr && begin->address.space == Space::kData)
    static_begin_ = begin->address.offset;
  machine().guard_stack(static_begin_.value_or(0), static_begin_ ? static_end_.value_or(0) : 0);
  checks_->begin();
  for (std::string& text : follow_lines()) warnings.push_back(std::move(text));
  bind_all();
  for (std::string& text : trace_again()) warnings.push_back(std::move(text));
  begin_timeline();
  begin_run();
  counted_.reset();
  finish({Outcome::Kind::kTarget, {}, Pause::Cause::kReady, {}, {}, {}}, Pause::Cause::kReady,
         "loaded");
  remember();
}

Session::Session(Chip chip) : core_(std::make_unique<Core>(std::move(chip))) {}
Session::~Session() = default;
Session::Session(Session&&) noexcept = default;
Session& Session::operator=(Session&&) noexcept = default;

void Session::set_listener(Listener* listener) { core_->listener_ = listener; }
void Session::add_source_folder(const std::string& folder) { core_->sources_.add_folder(folder); }

Result<std::vector<std::string>> Session::open(const std::string& path) {
  return core_->open(path);
}
Result<void> Session::adopt(const std::string& path) {
  const auto image = Image::open(path);
  if (!image) return fail(image.error());
  std::vector<std::string> warnings;
  core_->take(*image, path, warnings);
  return {};
}
Result<std::vector<std::string>> Session::reload(const std::string& path) {
  if (path.empty() && core_->image_path_.empty())
    return fail(ErrorCode::kUsage, "no image has been loaded yet", "name one: reload main.elf");
  return core_->open(path.empty() ? core_->image_path_ : path);
}
const Program& Session::program() const { return core_->program_; }
const Chip& Session::chip() const { return core_->chip_; }
const std::string& Session::image_path() const { return core_->image_path_; }

Result<Breakpoint> Session::pause_at(const BreakpointSpec& spec) { return core_->add(spec); }
std::vector<Breakpoint> Session::breakpoints() const {
  std::vector<Breakpoint> out;
  for (const auto& entry : core_->breakpoints_) out.push_back(entry.point);
  return out;
}
std::vector<Session::Fault> Session::faults() const { return core_->faults(); }
Result<void> Session::set_fault(const std::string& name, bool on) {
  return core_->set_fault(name, on);
}
Result<WatchView> Session::watch(const std::string& expression, const std::string& format) {
  return core_->watch(expression, format);
}
std::vector<WatchView> Session::watches() const { return core_->watched_; }
Result<void> Session::enable(unsigned id, bool on) { return core_->enable(id, on); }
Result<void> Session::tabulate(unsigned id, const std::vector<std::string>& row) {
  return core_->tabulate(id, row);
}
Result<void> Session::rearm(unsigned id) { return core_->rearm(id); }
Result<void> Session::remove(unsigned id) { return core_->remove(id); }
void Session::all_breakpoints(bool on) {
  core_->breakpoints_on_ = on;
  core_->sync_marks();
}
bool Session::all_breakpoints_on() const { return core_->breakpoints_on_; }

Pause Session::go() { return core_->go({}, Pause::Cause::kStep); }
Result<Pause> Session::go_to(const std::string& place, std::optional<Picoseconds> within) {
  return core_->go_to({place}, core_->end_of(within));
}
Result<Pause> Session::go_to_any(const std::vector<std::string>& places,
                                 std::optional<Picoseconds> within) {
  if (places.empty()) return fail(ErrorCode::kUsage, "no place to go to");
  return core_->go_to(places, core_->end_of(within));
}
Pause Session::go_for(std::uint64_t cycles) {
  machine::RunRequest request;
  const std::uint64_t now = core_->machine().cycles();
  request.until_cycles = cycles > UINT64_MAX - now ? UINT64_MAX : now + cycles;
  return core_->go(request, Pause::Cause::kTimeUp);
}
Pause Session::go_for(Picoseconds span) {
  const machine::Machine& m = core_->machine();
  machine::RunRequest request;
  request.until_ticks = core_->later(to_ticks(span, m.info().clock_hz));
  return core_->go(request, Pause::Cause::kTimeUp);
}
Result<Pause> Session::go_until(const std::string& expression, std::optional<Picoseconds> within) {
  return core_->go_until(expression, core_->end_of(within));
}
Result<Pause> Session::go_until_sent(const std::string& port, const std::string& text,
                                     std::optional<Picoseconds> within) {
  return core_->go_until_sent(port, text, core_->end_of(within));
}
Result<Pause> Session::step(StepKind kind, StepUnit unit, std::uint64_t count) {
  return core_->stepped(kind, unit, count);
}
std::vector<std::string> Session::step_targets() const {
  std::vector<std::string> out;
  const Location here = core_->location(chip().pc());
  if (here.line == 0) return out;
  const Program& program = core_->program_;
  const Function* function = program.function_at(here.address);
  for (const LineRange& range : program.stretches_of(here.file_index, here.line)) {
    if (function != nullptr && (range.begin < function->begin || range.begin >= function->end))
      continue;
    for (std::uint32_t at = range.begin; at < range.end;) {
      const Instruction one = chip().instruction_at(at);
      const Function* callee =
          one.flow == Flow::kCall && one.target ? program.function_at(*one.target) : nullptr;
      if (callee != nullptr && at >= here.address && program.line_at(*one.target) &&
          program.line_at(*one.target)->line != 0 && core_->passed_over(*callee).empty() &&
          std::find(out.begin(), out.end(), callee->name) == out.end())
        out.push_back(callee->name);
      at += std::max<std::uint32_t>(one.size, 1);
    }
  }
  return out;
}
Result<Pause> Session::step_into(const std::string& function) {
  const auto targets = step_targets();
  if (std::find(targets.begin(), targets.end(), function) == targets.end())
    return fail(ErrorCode::kNotFound, fmt::format("this line does not call '{}'", function),
                targets.empty() ? "it has no more calls that a step could enter"
                                : did_you_mean(function, targets));
  const Location line = core_->location(chip().pc());
  const std::size_t level = core_->callers().size();
  for (;;) {
    auto pause = step(StepKind::kInto, StepUnit::kLine);
    if (!pause || pause->cause != Pause::Cause::kStep) return pause;
    const bool inside = core_->callers().size() > level;
    if (inside && pause->where.function == function) return pause;
    if (inside) {
      pause = step(StepKind::kOut, StepUnit::kLine);
      if (!pause || pause->cause != Pause::Cause::kStep) return pause;
    }
    if (pause->where.line != line.line || pause->where.file_index != line.file_index ||
        core_->callers().size() != level)
      return pause;
  }
}
Result<Pause> Session::move_to(const std::string& place) { return core_->move_to(place); }
Pause Session::reset() { return core_->reset(); }

Result<Pause> Session::back(bool from_start) { return core_->back(from_start); }
Result<Pause> Session::back_to(const std::string& place) { return core_->back_to_place(place); }
Result<Pause> Session::back_to_start() { return core_->back_to_start(); }
Result<Pause> Session::back_for(std::uint64_t cycles) {
  const machine::Machine& m = core_->machine();
  return core_->back_by(cycles > m.cycles() ? UINT64_MAX : cycles * m.ticks_a_cycle());
}
Result<Pause> Session::back_for(Picoseconds span) {
  return core_->back_by(to_ticks(span, core_->machine().info().clock_hz));
}
Result<Pause> Session::back_until(const std::string& expression) {
  return core_->back_until(expression);
}
Result<Pause> Session::step_back(StepKind kind, StepUnit unit, std::uint64_t count) {
  return core_->stepped_back(kind, unit, count);
}
Result<Pause> Session::go_to_time(Picoseconds time) {
  const std::uint64_t tick = core_->tick_of(time);
  if (tick < core_->machine().ticks()) return core_->to_tick(tick, Pause::Cause::kTimeUp);
  machine::RunRequest request;
  request.until_ticks = tick;
  return core_->go(request, Pause::Cause::kTimeUp);
}
Result<Pause> Session::back_to_time(Picoseconds time) {
  const std::uint64_t tick = core_->tick_of(time);
  if (tick >= core_->machine().ticks())
    return fail(ErrorCode::kUsage, to_text(time) + " is not earlier than now",
                "`go to` goes there forwards");
  return core_->to_tick(tick, Pause::Cause::kTimeUp);
}
Result<OriginView> Session::origin(const std::string& object, unsigned depth) {
  return core_->origin(object, depth);
}
Result<MissedView> Session::missed(const std::string& place, const std::string& from_mark) {
  return core_->missed(place, from_mark);
}
Result<Pause> Session::back_to_origin(std::size_t number) { return core_->back_to_origin(number); }
Result<std::vector<Session::Write>> Session::history(const std::string& object, std::size_t most) {
  return core_->history(object, most);
}
Result<Pause> Session::back_to_history(std::size_t number) {
  return core_->back_to_history(number);
}
std::string Session::timeline_text() const { return record::written(core_->log()); }
Result<Pause> Session::follow_timeline(const std::string& text) { return core_->follow_log(text); }
Picoseconds Session::behind() const {
  const std::uint64_t end = core_->timeline_.end().tick;
  const std::uint64_t now = core_->machine().ticks();
  return to_time(end > now ? end - now : 0, core_->machine().info().clock_hz);
}
void Session::set_timeline(bool on) { core_->set_timeline(on); }
Session::TimelineView Session::timeline() const {
  const record::Timeline& timeline = core_->timeline_;
  const std::uint64_t hz = core_->machine().info().clock_hz;
  TimelineView out{timeline.on(), timeline.copies(), timeline.bytes(), {}, {}};
  out.first = to_time(
      timeline.first() != nullptr ? timeline.first()->at.tick : core_->machine().ticks(), hz);
  out.end = to_time(std::max(timeline.end().tick, core_->machine().ticks()), hz);
  return out;
}
void Session::set_timeline_bound(std::size_t bytes) { core_->timeline_.set_bound(bytes); }
std::uint64_t Session::bytes_sent() const { return core_->heard_; }
Result<Session::MarkView> Session::mark(const std::string& name) { return core_->mark(name); }
std::vector<Session::MarkView> Session::marks() const {
  std::vector<MarkView> out;
  for (const Core::Mark& mark : core_->marks_named_) out.push_back(core_->view(mark));
  return out;
}
Result<Pause> Session::revert_to(const std::string& mark) { return core_->revert_to(mark); }
Result<ComparisonView> Session::compare(const std::string& mark, const std::string& with) {
  return core_->compare(mark, with);
}
Result<SuppositionView> Session::suppose(const std::vector<Change>& changes, Picoseconds span) {
  return core_->suppose(changes, span, {});
}
Result<SuppositionView> Session::suppose_until(const std::vector<Change>& changes,
                                               const std::string& place) {
  return core_->suppose(changes, {}, place);
}

void Session::request_pause() {
  core_->pause_requested_ = true;
  core_->attention_ = true;
}

void Session::post(std::function<void()> request) {
  {
    const std::lock_guard<std::mutex> lock(core_->posting_);
    core_->posted_.push_back(std::move(request));
  }
  core_->attention_ = true;
}

void Session::do_posted() { core_->do_posted(); }
void Session::set_limit(Picoseconds span) { core_->limit_ = span; }
void Session::set_pace(Picoseconds every) { core_->pace_ = every; }
bool Session::running() const { return core_->running_; }

const Pause& Session::pause() const { return core_->pause_; }

namespace {
std::vector<Value::Field> fields_of(const IoRegister& io, std::uint32_t value) {
  std::vector<Value::Field> out;
  std::uint32_t told = 0;  // the bits of a wider field are not told again
  for (const IoField& field : io.fields) {
    const std::uint32_t mask = ((1U << field.width) - 1) << field.lowest;
    if ((told & mask) == mask) continue;
    told |= mask;
    const std::uint32_t part = value >> field.lowest & ((1U << field.width) - 1);
    out.push_back({field.name, part, part < field.meanings.size() ? field.meanings[part] : ""});
  }
  return out;
}
}  // namespace

Result<Value> Session::evaluate(const std::string& text, Format format) const {
  const frames::Scope scope = core_->scope();
  auto expression = expression::Expression::parse(text, scope);
  if (!expression) return fail(expression.error());
  auto operand = expression->evaluate(scope);
  if (!operand) return fail(operand.error());
  Value value = operand->value;
  value.text = expression::written(*operand, format, scope);
  if (expression->names_variable()) value.which = core_->which(text, scope);
  const auto* elsewhere = operand->elsewhere.get();
  const expression::Operand& there = elsewhere != nullptr ? elsewhere->operand : *operand;
  const Core::Side on = core_->side(elsewhere != nullptr ? elsewhere->chip : "");
  const frames::Place& place = there.place;
  if (there.type == 0 && place.kind == frames::Place::Kind::kMemory && place.bit_size == 0)
    for (const IoRegister& io : on.machine().info().io)
      if (place.address == Address{Space::kData, io.address} && place.bytes == io.bytes)
        value.fields = fields_of(io, static_cast<std::uint32_t>(value.integer));
  if (value.past_end) value.which = "past the end of the array";
  return value;
}

Result<Value> Session::described(const std::string& text) const {
  frames::Scope scope = core_->scope();
  scope.as_described = true;
  auto expression = expression::Expression::parse(text, scope);
  if (!expression) return fail(expression.error());
  auto operand = expression->evaluate(scope);
  if (!operand) return fail(operand.error());
  return operand->value;
}

Result<bool> Session::holds(const std::string& text) const {
  const frames::Scope scope = core_->scope();
  auto expression = expression::Expression::parse(text, scope);
  if (!expression) return fail(expression.error());
  return expression->holds(scope);
}

Result<Location> Session::locate(const std::string& place) const {
  auto addresses = core_->resolve(place);
  if (!addresses) return fail(addresses.error());
  return core_->location((*addresses)[0]);
}

Result<SourceView> Session::source(const std::string& place, unsigned around) const {
  return core_->source(place, around);
}
Result<DisassemblyView> Session::disassembly(const std::string& place, unsigned count,
                                             bool mixed) const {
  return core_->disassembly(place, count, mixed);
}

std::vector<RegisterView> Session::registers() const {
  std::vector<RegisterView> out;
  const auto& names = core_->machine().target().registers();
  if (core_->level_ != 0) {
    const auto levels = frames::call_levels(core_->program_, core_->machine(), core_->flows_);
    for (unsigned i = 0; core_->level_ < levels.size() && i < names.size(); ++i) {
      const auto value = frames::register_in(levels[core_->level_], core_->machine(), i);
      const std::uint64_t raw = value.value_or(0);
      out.push_back({names[i].name, names[i].bits, raw, raw, value.has_value()});
    }
    return out;
  }
  for (unsigned i = 0; i < names.size(); ++i)
    out.push_back({names[i].name, names[i].bits, core_->machine().register_value(i),
                   core_->before_->register_value(i)});
  return out;
}

std::vector<FlagView> Session::flags() const {
  std::vector<FlagView> out;
  if (core_->level_ != 0) return out;
  const std::string letters = core_->machine().flag_letters();
  for (std::size_t i = 0; i < letters.size(); ++i) {
    const auto bit = letters.size() - 1 - i;
    out.push_back({letters[i], (core_->machine().flags() >> bit & 1U) != 0,
                   (core_->before_->flags() >> bit & 1U) != 0});
  }
  return out;
}

Result<MemoryView> Session::memory(const std::string& area, std::optional<std::uint32_t> begin,
                                   std::uint32_t length) const {
  return core_->memory(area, begin, length);
}

Result<std::vector<IoView>> Session::io(const std::string& like) const {
  std::vector<IoView> out;
  const auto word = [](const machine::Machine& machine, const IoRegister& io) {
    std::uint32_t value = 0;
    for (unsigned i = 0; i < io.bytes; ++i)
      value |= std::uint32_t{machine.peek({Space::kData, io.address + i}).value_or(0)} << (8 * i);
    return value;
  };
  const auto& all = core_->machine().info().io;
  const auto add = [&](const IoRegister& io) {
    const std::uint32_t now = word(core_->machine(), io);
    out.push_back({io, now, word(*core_->before_, io), fields_of(io, now)});
  };
  const auto begins = [&](const std::string& name) {
    return name.size() >= like.size() &&
           base::equal_ignoring_case(std::string_view(name).substr(0, like.size()), like);
  };
  const bool peripheral = std::any_of(all.begin(), all.end(), [&](const IoRegister& io) {
    return base::equal_ignoring_case(io.peripheral, like);
  });
  // A peripheral; else a register by its name, or all that begin so.
  for (const IoRegister& io : all)
    if (!peripheral && base::equal_ignoring_case(io.name, like)) add(io);
  if (!out.empty()) return out;
  // The bytes of a wide register are not told apart from it.
  const auto is_half = [&](const IoRegister& io) {
    return io.bytes == 1 && std::any_of(all.begin(), all.end(), [&](const IoRegister& wide) {
             return wide.bytes > 1 && io.address >= wide.address &&
                    io.address < wide.address + wide.bytes;
           });
  };
  std::map<std::string, std::uint32_t> first;  // of a peripheral's registers
  for (const IoRegister& io : all) {
    const bool wanted = peripheral ? base::equal_ignoring_case(io.peripheral, like)
                                   : begins(io.peripheral) || begins(io.name);
    if (!wanted || is_half(io)) continue;
    first.emplace(io.peripheral, io.address);
    add(io);
  }
  if (out.empty()) {
    std::vector<std::string> names;
    for (const IoRegister& io : all) names.insert(names.end(), {io.name, io.peripheral});
    return fail(ErrorCode::kNotFound,
                fmt::format("{} has no peripheral or I/O register '{}'",
                            core_->machine().info().name, like),
                did_you_mean(like, names));
  }
  std::stable_sort(out.begin(), out.end(), [&](const IoView& a, const IoView& b) {
    return std::pair(first[a.io.peripheral], a.io.address) <
           std::pair(first[b.io.peripheral], b.io.address);
  });
  return out;
}

std::vector<PinView> Session::pins() const {
  std::vector<PinView> out;
  const auto before = core_->before_->pins();
  for (const PinState& pin : core_->machine().pins())
    out.push_back({pin, before[out.size()].level});
  return out;
}

StackView Session::stack(unsigned slots) const { return core_->stack(slots); }
std::vector<CallLevel> Session::callers() const { return core_->callers(); }
Result<GraphView> Session::graph(const std::string& expression, unsigned most) const {
  return core_->graph(expression, most);
}
Result<std::vector<std::string>> Session::macros(const std::string& place) const {
  return core_->macros(place);
}
Result<void> Session::filter_steps(std::vector<std::string> stay_in,
                                   std::vector<std::string> run_through) {
  return core_->filter_steps(std::move(stay_in), std::move(run_through));
}
unsigned Session::level() const {
  return static_cast<unsigned>(core_->callers().size()) - core_->level_;
}
std::string Session::filled_in(const std::string& text) const { return core_->filled(text); }
Result<void> Session::select_level(unsigned number) { return core_->select_level(number); }
std::vector<VariableView> Session::variables() const { return core_->variables(); }
Result<std::vector<VariableView>> Session::children(const std::string& expression,
                                                    std::uint64_t begin,
                                                    std::uint64_t count) const {
  return core_->children(expression, begin, count);
}

TimeView Session::time() const {
  const Pause& pause = core_->pause_;
  const machine::Machine& m = core_->machine();
  const std::uint64_t hz = m.info().clock_hz;
  return {pause.cycles,
          pause.cycles_since,
          pause.time,
          pause.since,
          to_time(m.slept_ticks(), hz),
          hz,
          m.ticks_a_cycle(),
          behind(),
          to_time(m.skipped_ticks(), hz)};
}

std::vector<VariableView> Session::globals(const std::string& like) const {
  return core_->globals(like, false);
}
std::vector<VariableView> Session::changed() const { return core_->globals({}, true); }

Result<Explanation> Session::explain(const std::string& place) const {
  auto addresses = core_->resolve(place);
  if (!addresses) return fail(addresses.error());
  Explanation out = core_->machine().target().explain(core_->machine(), (*addresses)[0]);
  core_->name_addresses(out);
  return out;
}

/// Says what lives at the addresses that an explanation names.
void Session::Core::name_addresses(Explanation& explanation) const {
  const auto behind = [](std::string& text, const std::string& what, const std::string& name) {
    const std::size_t at = text.find(what);
    if (at != std::string::npos && !name.empty() && name != what)
      text.insert(at + what.size(), " (" + name + ")");
  };
  if (explanation.instruction.target) {
    const std::uint32_t target = *explanation.instruction.target;
    behind(explanation.words, fmt::format("{:#06x}", target), place_name(target));
  }
  const auto data = [&](std::string& text, std::string_view before) {
    const std::size_t at = text.find(before);
    if (at == std::string::npos) return;
    const std::string word = text.substr(
        at + before.size(), text.find_first_of(" ,.", at + before.size()) - at - before.size());
    if (const auto address = base::parse_unsigned(word); address && word.rfind("0x", 0) == 0)
      behind(text, std::string(before) + word, data_name(static_cast<std::uint32_t>(*address)));
  };
  data(explanation.words, "address ");
  for (std::string& fact : explanation.now) {
    data(fact, "address ");
    if (fact.rfind("0x", 0) == 0) data(fact, "");
    constexpr std::string_view kReturns = "the stack says ";
    if (const std::size_t at = fact.find(kReturns); at != std::string::npos) {
      const std::string word = fact.substr(at + kReturns.size());
      if (const auto address = base::parse_unsigned(word))
        behind(fact, word, place_name(static_cast<std::uint32_t>(*address)));
    }
  }
}

}  // namespace lucid
