// SPDX-License-Identifier: MIT
// Race search: a function is run again and again, each time with an interrupt before another one
// of its instructions, and what it leaves behind is compared with the two orders without a race.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <set>

#include "lucid/race.h"
#include "session/kept.h"
#include "session/quiet.h"

namespace lucid {

using machine::Machine;
using machine::Stop;
using Finding = RaceView::Finding;

class Session::Core::Race {
 public:
  Race(Core& core, const RaceSpec& spec) : core_(core), spec_(spec) {}

  Result<RaceView> search() {
    if (auto found = find_names(); !found) return fail(found.error());
    if (auto reached = reach(); !reached) return fail(reached.error());
    if (auto ready = prepare(); !ready) return fail(ready.error());
    if (auto done = walk(); !done) return fail(done.error());
    for (const Variant& variant : variants()) {
      variant_ = variant;
      view_.also_with.push_back(variant.text);
      if (auto done = walk(); !done) return fail(done.error());
    }
    std::stable_sort(found_.begin(), found_.end(), [](const Found& a, const Found& b) {
      return a.finding.kind < b.finding.kind;
    });
    core_.races_.clear();
    core_.races_from_ = core_.keep();
    for (Found& found : found_) {
      view_.findings.push_back(std::move(found.finding));
      core_.races_.push_back(std::move(found.raced));
    }
    return std::move(view_);
  }

 private:
  /// What is there when the function has returned.
  struct Ending {
    Finding::Kind kind = Finding::Kind::kNeither;
    bool returned = false;
    std::string detail;               ///< of a fault
    std::vector<std::uint8_t> bytes;  ///< those of spans_
    std::shared_ptr<const Machine> machine;
    bool holds = true;
  };
  struct Vector {
    unsigned number = 0;
    RaceView::Interrupt view;
  };
  /// A value at which all bytes change that a handler changes.
  struct Variant {
    std::string text;
    std::vector<machine::Edit> edits;
  };
  struct Found {
    Finding finding;
    Raced raced;
  };
  /// Bytes that are compared.
  struct Span {
    std::optional<unsigned> index;  ///< of a register
    std::uint32_t begin = 0, count = 1;
  };

  [[nodiscard]] tl::unexpected<Error> interrupted() const {
    return fail(ErrorCode::kUsage, "interrupted: the search has found nothing yet");
  }

  Result<void> find_names() {
    const auto functions = core_.program_.find_functions(spec_.function);
    for (const Function* f : functions)
      if (f->begin < f->end) functions_.push_back(f);
    if (functions_.empty()) {
      const auto& bodies = core_.program_.inlined_calls();
      if (std::any_of(bodies.begin(), bodies.end(),
                      [&](const InlinedCall& call) { return call.name == spec_.function; }))
        return fail(ErrorCode::kUnsupported,
                    spec_.function + " is inlined: its body stands in those that call it",
                    "name the function that it is in");
      return fail(ErrorCode::kNotFound, fmt::format("there is no function '{}'", spec_.function),
                  core_.functions_like(spec_.function));
    }
    std::vector<std::string> names = spec_.interrupts;
    const bool all = names.empty();
    if (all)
      for (const auto& [number, begin] : core_.handler_begins())
        if (number != 0 && core_.program_.function_at(begin) != nullptr &&
            begin != core_.no_handler_)
          names.push_back(core_.machine().info().vectors[number].name);
    for (const std::string& name : names) {
      const auto number = core_.vector_named(name);
      if (!number) return fail(number.error());
      Vector vector;
      vector.number = *number;
      vector.view.name = name;
      vectors_.push_back(std::move(vector));
    }
    if (vectors_.empty())
      return fail(ErrorCode::kNotFound, "the program has no handler of any interrupt");
    if (spec_.pair && (vectors_.size() != 2 || vectors_[0].number == vectors_[1].number))
      return fail(ErrorCode::kUsage, "a pair is of two interrupts", "name them");
    return {};
  }

  /// A span, or what a run may take at all (Session::set_limit()).
  [[nodiscard]] Picoseconds at_most(Picoseconds span) const {
    const Picoseconds limit = core_.limit_;
    return limit.count != 0 && limit.count < span.count ? limit : span;
  }

  /// On to the function's entry, on a copy.
  Result<void> reach() {
    Core& c = core_;
    std::vector<std::uint32_t> entries;
    for (const Function* f : functions_) entries.push_back(f->begin);
    std::vector<std::uint32_t> from;
    if (!spec_.from.empty()) {
      const auto places = c.resolve(spec_.from);
      if (!places) return fail(places.error());
      from = *places;
    }
    const auto stands_at = [&](const std::vector<std::uint32_t>& places) {
      return std::find(places.begin(), places.end(), c.machine().pc()) != places.end() &&
             !c.machine().interrupt_imminent();
    };
    if (from.empty() && stands_at(entries)) {
      base_ = c.machine().clone();
    } else {
      const auto kept = c.keep();
      std::vector<machine::Fault> faults;
      for (unsigned kind = 1; kind <= static_cast<unsigned>(machine::Fault::kOutside); ++kind)
        if (c.machine().fault_is_on(static_cast<machine::Fault>(kind)))
          faults.push_back(static_cast<machine::Fault>(kind));
      const std::uint64_t until =
          c.later(to_ticks(at_most(spec_.within), c.machine().info().clock_hz));
      bool arrived = true;
      c.begin_run_quietly();
      c.limit_end_ = c.next_pace_ = UINT64_MAX;
      {
        const Quiet quiet(c);
        if (!from.empty()) arrived = come_to(from, until);
        // A function's own entry may be the place.
        arrived = arrived && ((!from.empty() && stands_at(entries)) || come_to(entries, until));
        base_ = c.machine().clone();
      }
      for (const machine::Fault fault : faults) base_->set_fault(fault, true);
      const bool asked = c.pause_requested_.exchange(false);
      c.running_ = false;
      if (auto back = c.return_to(*kept); !back) return fail(back.error());
      if (asked) return interrupted();
      if (!arrived)
        return fail(ErrorCode::kNotFound,
                    fmt::format("{} is not called within {}", spec_.function,
                                to_text(at_most(spec_.within))),
                    "go nearer to where it is, or say which one with `from PLACE`");
    }
    for (const std::uint32_t address : c.marks_) (void)base_->set_breakpoint(address, false);
    for (const auto& [address, kinds] : c.watches_) (void)base_->watch(address, 0);
    return {};
  }

  /// As what comes will come there, with what is to be done by then. REQUIRES: a Quiet.
  bool come_to(const std::vector<std::uint32_t>& places, std::uint64_t until) {
    Target target;
    for (const std::uint32_t place : places) target.places.push_back({place, {}});
    core_.stood_at_ = {core_.machine().pc(), core_.machine().ticks()};
    machine::RunRequest request;
    request.until_ticks = until;
    return core_.run(request, &target).kind == Outcome::Kind::kTarget;
  }

  Result<void> prepare() {
    const std::uint64_t hz = base_->info().clock_hz;
    function_ = core_.program_.function_at(base_->pc());
    const auto frames = frames::unwind(core_.program_, *base_, core_.flows_);
    if (frames.empty() || !frames.front().known || frames.front().return_slot == 0)
      return fail(ErrorCode::kUnsupported,
                  "where " + spec_.function + " returns to cannot be told");
    returns_to_ = frames.front().returns_to;
    sp_behind_ = frames.front().cfa;
    const std::uint64_t longest = to_ticks(at_most(spec_.longest), hz);
    entered_ = base_->ticks();
    entered_cycle_ = base_->cycles();
    until_ = longest > UINT64_MAX - entered_ ? UINT64_MAX : entered_ + longest;
    view_.function = function_->name;
    view_.expectation = spec_.expectation;
    view_.where = core_.location(base_->pc());
    view_.entered = to_time(entered_, hz);
    choose_spans();
    if (!spec_.expectation.empty()) {
      auto parsed = expression::Expression::parse(spec_.expectation, scope(*base_));
      if (!parsed) return fail(parsed.error());
      if (parsed->uses_locals())
        return fail(ErrorCode::kUsage,
                    "the expectation is worked out when " + spec_.function +
                        " has returned: it has no locals any more",
                    "say it of variables, or of the register that its value is returned in");
      expectation_ = std::make_unique<expression::Expression>(std::move(*parsed));
      if (const auto value = expectation_->holds(scope(*base_)); !value) return fail(value.error());
    }
    fork_ = base_->clone();
    if (auto marked = fork_->set_breakpoint(returns_to_, true); !marked) return marked;
    if (!run_to_end(*fork_)->returned)
      return asked_ ? interrupted()
                    : fail(ErrorCode::kUsage,
                           fmt::format("{} does not return within {}", spec_.function,
                                       to_text(at_most(spec_.longest))),
                           "name a function that it calls");
    return {};
  }

  [[nodiscard]] frames::Scope scope(const Machine& machine) const {
    frames::Scope out{core_.program_, machine, core_.flows_, core_.static_end_, 0, {}};
    out.names_at = function_->begin;
    return out;
  }

  /// Static data, the callers' frames, the registers that a function keeps or returns in, and
  /// what is latched for pins. What is below the stack pointer, and all that counts time, is not.
  void choose_spans() {
    const MemoryArea* ram = base_->area("ram");
    if (ram == nullptr) return;
    const std::uint32_t statics = core_.static_end_.value_or(ram->begin);
    if (statics > ram->begin) spans_.push_back({{}, ram->begin, statics - ram->begin});
    const std::uint32_t above = sp_behind_ + base_->target().convention().stack_gap;
    if (above < ram->end) spans_.push_back({{}, above, ram->end - above});
    for (const std::uint32_t address : base_->latches()) spans_.push_back({{}, address, 1});
    const auto& registers = base_->target().registers();
    const std::uint32_t bytes =
        function_->returns == 0 ? 0 : core_.program_.types()[function_->returns].bytes;
    const machine::RegisterSpan result = base_->target().returned_in(bytes);
    const auto clobbered = base_->target().convention().call_clobbered;
    const int sp = base_->target().convention().sp_dwarf;
    for (unsigned index = 0; index < registers.size(); ++index) {
      const int dwarf = registers[index].dwarf;
      if (dwarf < 0 || dwarf == sp || dwarf >= 64) continue;
      const bool returned = dwarf >= result.first && dwarf < result.first + result.count;
      if (returned || (clobbered >> dwarf & 1U) == 0) spans_.push_back({index, 0, 1});
      if (returned) results_.insert(index);
    }
  }

  [[nodiscard]] std::vector<std::uint8_t> bytes_of(const Machine& machine) const {
    std::vector<std::uint8_t> out;
    for (const Span& span : spans_) {
      if (span.index) {
        const std::uint64_t value = machine.register_value(*span.index);
        const unsigned bits = machine.target().registers()[*span.index].bits;
        for (unsigned bit = 0; bit < bits; bit += 8)
          out.push_back(static_cast<std::uint8_t>(value >> bit));
        continue;
      }
      if (const auto* plain = machine.plain_bytes({Space::kData, span.begin}, span.count)) {
        out.insert(out.end(), plain, plain + span.count);
        continue;
      }
      for (std::uint32_t i = 0; i < span.count; ++i)
        out.push_back(machine.peek({Space::kData, span.begin + i}).value_or(0));
    }
    return out;
  }

  /// Until the function has returned, and who has interrupted it.
  std::unique_ptr<Ending> run_to_end(Machine& machine) {
    auto out = std::make_unique<Ending>();
    machine::RunRequest request;
    request.until_ticks = until_;
    request.pause_requested = &core_.pause_requested_;
    for (;;) {
      const Stop stop = machine.run(request);
      request.pass_first_breakpoint = true;
      if (stop.why == Stop::Why::kBreakpoint) {
        if (machine.sp() != sp_behind_) continue;
        out->returned = true;
        break;
      }
      if (stop.why == Stop::Why::kRequested) asked_ = true;
      out->kind = Finding::Kind::kStuck;
      if (stop.why == Stop::Why::kFault) {
        out->kind = Finding::Kind::kFault;
        out->detail = machine::fault_text(stop);
      }
      break;
    }
    return out->returned ? ended(machine) : std::move(out);
  }

  /// REQUIRES: the function has returned.
  std::unique_ptr<Ending> ended(const Machine& machine) const {
    auto out = std::make_unique<Ending>();
    out->returned = true;
    out->bytes = bytes_of(machine);
    if (expectation_ != nullptr) {
      const auto quick = expectation_->quick_truth(machine);
      out->holds = quick ? *quick : expectation_->holds(scope(machine)).value_or(false);
    }
    return out;
  }

  /// The function once more, from its entry to its return, with the interrupts at each boundary.
  Result<void> walk() {
    if (spec_.pair) return walk_pairs();
    const auto here = base_->clone();
    for (const machine::Edit& edit : variant_.edits) (void)machine::make(*here, edit);
    (void)fork_->assume(*here);
    before_.clear();
    behind_.clear();
    // The two orders first.
    const auto end = run_to_end(*fork_);
    if (!end->returned) return asked_ ? Result<void>(interrupted()) : Result<void>();
    const auto at_end = first_return(*here);
    for (std::size_t v = 0; v < vectors_.size(); ++v) {
      before_.push_back(order(*here, v));
      behind_.push_back(order(*at_end, v));
      if (asked_) return interrupted();
      view_.broken_before = view_.broken_before || is_broken(before_[v]);
      view_.broken_behind = view_.broken_behind || is_broken(behind_[v]);
    }
    for (std::size_t v = 0; v < vectors_.size(); ++v)
      if (before_[v] == nullptr || behind_[v] == nullptr) vectors_[v].view.compared = false;
    std::uint64_t boundaries = 0;
    machine::RunRequest one;
    one.instructions = 1;
    one.pass_first_breakpoint = true;
    for (;; ++boundaries) {
      if (here->pc() == returns_to_ && here->sp() == sp_behind_) break;
      if (boundaries != 0) {  // at the entry itself it is one of the orders
        for (std::size_t v = 0; v < vectors_.size(); ++v) place(*here, v);
        if (asked_) return interrupted();
      }
      if (here->run(one).why == Stop::Why::kFault || here->ticks() >= until_) break;
    }
    note_walk(boundaries);
    return {};
  }

  /// Where the function has just returned, whatever interrupt may come there.
  std::unique_ptr<Machine> first_return(const Machine& from) const {
    auto out = from.clone();
    machine::RunRequest one;
    one.instructions = 1;
    one.pass_first_breakpoint = true;
    while ((out->pc() != returns_to_ || out->sp() != sp_behind_) && out->ticks() < until_)
      (void)out->run(one);
    return out;
  }

  /// With the interrupt here, where no instruction of the function is under way. Null: it cannot
  /// come here.
  std::unique_ptr<Ending> order(const Machine& here, std::size_t v) {
    (void)fork_->assume(here);
    if (!enter(*fork_, v)) return nullptr;
    auto out = run_to_end(*fork_);
    out->machine = fork_->clone();
    return out->returned ? std::move(out) : nullptr;
  }

  /// Raised here, and entered. False: it cannot come here.
  bool enter(Machine& machine, std::size_t v) const {
    if (machine.raise(vectors_[v].number, spec_.byte) == Machine::Raised::kNot ||
        !machine.interrupt_imminent())
      return false;
    machine::RunRequest request;
    request.stop_at_interrupt = true;
    return machine.run(request).why == Stop::Why::kInterruptEntered;
  }

  /// Two interrupts, one after the other, each where no instruction of the function is under way:
  /// how many of them before the entry. Null: they cannot come so.
  std::unique_ptr<Ending> order(const Machine& at_entry, const Machine& at_end,
                                const std::array<std::size_t, 2>& which, unsigned before) {
    (void)fork_->assume(before != 0 ? at_entry : at_end);
    for (unsigned i = 0; i < 2; ++i) {
      if (i == before && before != 0 && !run_to_end(*fork_)->returned) return nullptr;
      const std::uint32_t pc = fork_->pc(), sp = fork_->sp();
      // As if some other instruction had been executed since the handler before this one.
      fork_->set_pc(pc);
      if (!enter(*fork_, which[i])) return nullptr;
      // Back to where it came; the entry is no place at which the fork stops by itself.
      machine::RunRequest one;
      one.instructions = 1;
      one.pass_first_breakpoint = true;
      while ((fork_->pc() != pc || fork_->sp() != sp) && fork_->ticks() < until_)
        (void)fork_->run(one);
    }
    auto out = before == 2 ? run_to_end(*fork_) : ended(*fork_);
    out->machine = fork_->clone();
    return out->returned ? std::move(out) : nullptr;
  }

  /// Both interrupts: the first at each boundary, the second at each one behind it.
  Result<void> walk_pairs() {
    const auto here = base_->clone();
    for (const machine::Edit& edit : variant_.edits) (void)machine::make(*here, edit);
    const auto at_end = first_return(*here);
    std::vector<std::unique_ptr<Ending>> all;
    Orders orders;
    for (const unsigned before : {2U, 1U, 0U})
      for (const std::size_t first : {0U, 1U}) {
        all.push_back(order(*here, *at_end, {first, 1 - first}, before));
        if (all.back() != nullptr) orders.push_back(all.back().get());
      }
    for (Vector& vector : vectors_) vector.view.compared = orders.size() == all.size();
    const bool is_first = variant_.text.empty();
    const auto later = base_->clone();
    machine::RunRequest one;
    one.instructions = 1;
    one.pass_first_breakpoint = true;
    const auto returned = [&](const Machine& machine) {
      return machine.pc() == returns_to_ && machine.sp() == sp_behind_;
    };
    std::uint64_t boundaries = 0;
    for (; !returned(*here) && here->ticks() < until_; ++boundaries) {
      for (const std::size_t first : {0U, 1U}) {
        if (here->interrupts_off()) {
          vectors_[first].view.masked += is_first ? 1 : 0;
          continue;
        }
        (void)later->assume(*here);
        if (!enter(*later, first)) continue;
        for (; !returned(*later) && later->ticks() < until_; (void)later->run(one)) {
          if (later->interrupts_off()) continue;
          if (placements_ >= spec_.most) {
            view_.left_out += is_first ? 1 : 0;
            continue;
          }
          (void)fork_->assume(*later);
          const Machine::Raised raised = fork_->raise(vectors_[1 - first].number, spec_.byte);
          if (raised == Machine::Raised::kNot || !fork_->interrupt_imminent()) continue;
          ++placements_;
          ++vectors_[1 - first].view.placements;
          const auto end = run_to_end(*fork_);
          if (asked_) return interrupted();
          Finding finding;
          finding.interrupt = vectors_[1 - first].view.name;
          finding.first = vectors_[first].view.name;
          finding.first_where = core_.location(here->pc());
          finding.forced = raised == Machine::Raised::kForced;
          judge(*end, orders, orders.size() == all.size(), *later, std::move(finding),
                {raise_at(*here, vectors_[first].number),
                 raise_at(*later, vectors_[1 - first].number)});
        }
      }
      if (here->run(one).why == Stop::Why::kFault) break;
    }
    note_walk(boundaries);
    return {};
  }

  void note_walk(std::uint64_t boundaries) {
    if (variant_.text.empty()) view_.boundaries = boundaries;
    view_.interrupts.clear();
    for (const Vector& vector : vectors_) view_.interrupts.push_back(vector.view);
  }

  static bool is_broken(const std::unique_ptr<Ending>& order) {
    return order != nullptr && !order->holds;
  }

  void place(const Machine& here, std::size_t v) {
    Vector& vector = vectors_[v];
    const bool first = variant_.text.empty();
    if (here.interrupts_off()) {
      if (first) ++vector.view.masked;
      return;
    }
    if (placements_ >= spec_.most) {
      if (first) ++view_.left_out;
      return;
    }
    (void)fork_->assume(here);
    const Machine::Raised raised = fork_->raise(vector.number, spec_.byte);
    if (raised == Machine::Raised::kNot) {
      if (first) ++vector.view.not_enabled;
      return;
    }
    if (!fork_->interrupt_imminent()) {  // the instruction behind the one that turned them on
      if (first) ++vector.view.masked;
      return;
    }
    ++placements_;
    ++vector.view.placements;
    const auto end = run_to_end(*fork_);
    if (asked_) return;
    Orders orders;
    for (const Ending* order : {before_[v].get(), behind_[v].get()})
      if (order != nullptr) orders.push_back(order);
    Finding finding;
    finding.interrupt = vector.view.name;
    finding.forced = raised == Machine::Raised::kForced;
    judge(*end, orders, orders.size() == 2, here, std::move(finding),
          {raise_at(here, vector.number)});
  }

  using Orders = std::vector<const Ending*>;
  /// An interrupt that is raised before an instruction.
  [[nodiscard]] static Raced::Raise raise_at(const Machine& here, unsigned vector) {
    return {here.ticks(), here.pc(), vector};
  }

  /// `orders` without those that cannot be; `all` of them can. The last of `raises` is at `here`.
  void judge(const Ending& end, const Orders& orders, bool all, const Machine& here,
             Finding finding, std::vector<Raced::Raise> raises) {
    const auto broken_in = [](const Ending* order) { return !order->holds; };
    const bool always = !orders.empty() && std::all_of(orders.begin(), orders.end(), broken_in);
    const bool broken = end.returned && !end.holds && !always;
    const bool as_in_an_order = std::any_of(orders.begin(), orders.end(),
                                            [&](const Ending* o) { return o->bytes == end.bytes; });
    if (end.returned && !broken && (as_in_an_order || !all)) return;
    finding.kind = end.kind;
    finding.detail = end.detail;
    if (end.returned && all) finding.kind = compare(end, orders, finding.objects);
    if (broken) finding.kind = Finding::Kind::kBroken;
    finding.where = core_.location(here.pc());
    finding.cycles = here.cycles() - entered_cycle_;
    finding.at = to_time(here.ticks(), here.info().clock_hz);
    finding.with = variant_.text;
    // Once a place: what has been found without a changed value says the same.
    for (Found& known : found_) {
      const Finding& other = known.finding;
      if (other.where.address != finding.where.address || other.kind != finding.kind ||
          other.interrupt != finding.interrupt || other.first != finding.first)
        continue;
      if (other.with == finding.with) ++known.finding.times;
      if (other.with == finding.with || other.with.empty()) return;
    }
    Raced raced;
    raced.entered = entered_;
    raced.raises = std::move(raises);
    raced.byte = spec_.byte;
    raced.edits = variant_.edits;
    raced.loads = core_.loads_;
    found_.push_back({std::move(finding), std::move(raced)});
  }

  /// What differs, object by object.
  Finding::Kind compare(const Ending& end, const Orders& orders,
                        std::vector<Finding::Object>& objects) const {
    struct Differing {
      Finding::Object object;
      std::vector<bool> as;  ///< by order
    };
    std::vector<Differing> parts;
    const auto part = [&](const std::string& name) -> Differing& {
      for (Differing& p : parts)
        if (p.object.name == name) return p;
      parts.push_back({{name, {}, {}, {}}, std::vector<bool>(orders.size(), true)});
      return parts.back();
    };
    const auto value = [&](const std::string& name, const Machine& machine, const Ending& ending,
                           std::size_t at) {
      return value_of(name, machine, fmt::format("{:#04x}", ending.bytes[at]));
    };
    std::size_t at = 0;
    for (const Span& span : spans_) {
      const unsigned bytes =
          span.index ? (base_->target().registers()[*span.index].bits + 7U) / 8U : span.count;
      for (std::uint32_t i = 0; i < bytes; ++i, ++at) {
        const auto same = [&](const Ending* order) { return order->bytes[at] == end.bytes[at]; };
        if (std::all_of(orders.begin(), orders.end(), same)) continue;
        Differing& p = part(name_of(span, i));
        for (std::size_t o = 0; o < orders.size(); ++o) p.as[o] = p.as[o] && same(orders[o]);
        if (!p.object.value.empty()) continue;
        const std::string& name = p.object.name;
        p.object.value = value(name, *fork_, end, at);
        p.object.if_before = value(name, *orders.front()->machine, *orders.front(), at);
        p.object.if_behind = value(name, *orders.back()->machine, *orders.back(), at);
      }
    }
    const auto in_an_order = [](const Differing& p) {
      return std::count(p.as.begin(), p.as.end(), true) != 0;
    };
    const bool mixed = std::all_of(parts.begin(), parts.end(), in_an_order);
    for (Differing& p : parts)
      if (mixed || !in_an_order(p)) objects.push_back(std::move(p.object));
    return mixed ? Finding::Kind::kMixed : Finding::Kind::kNeither;
  }

  static constexpr const char* kReturns = "returns";

  [[nodiscard]] std::string name_of(const Span& span, std::uint32_t offset) const {
    if (span.index)
      return results_.count(*span.index) != 0 ? kReturns
                                              : base_->target().registers()[*span.index].name;
    const std::uint32_t address = span.begin + offset;
    std::string name = core_.data_name(address);
    if (const std::size_t into = name.find(" + "); into != std::string::npos) name.resize(into);
    return name.empty() ? fmt::format("{:#06x}", address) : name;
  }

  [[nodiscard]] std::string value_of(const std::string& name, const Machine& machine,
                                     const std::string& otherwise) const {
    if (name == kReturns) return core_.returned_value(*function_, machine).value_or(otherwise);
    const frames::Scope here = scope(machine);
    const auto parsed = expression::Expression::parse(name, here);
    if (!parsed || !parsed->names_variable()) return otherwise;
    const auto value = parsed->evaluate(here);
    return value ? expression::written(*value, {}, here) : otherwise;
  }

  /// Whole numbers that a handler has changed, but not in all of their bytes, and which values lead
  /// to that.
  std::vector<Variant> variants() {
    std::vector<Variant> out;
    std::set<std::uint32_t> seen;
    for (const Vector& vector : vectors_) {
      (void)fork_->assume(*base_);
      if (fork_->raise(vector.number, spec_.byte) == Machine::Raised::kNot ||
          !fork_->interrupt_imminent())
        continue;
      const std::uint32_t pc = fork_->pc(), sp = fork_->sp();
      machine::RunRequest enter;
      enter.stop_at_interrupt = true;
      if (fork_->run(enter).why != Stop::Why::kInterruptEntered) continue;
      machine::RunRequest one;
      one.instructions = 1;
      one.pass_first_breakpoint = true;
      // A handler is short; what is not is left to the values at hand.
      constexpr unsigned kLongest = 100'000;
      for (unsigned i = 0; i < kLongest && !(fork_->pc() == pc && fork_->sp() == sp); ++i)
        (void)fork_->run(one);
      for (const Variable& v : core_.program_.variables())
        if (v.address.space == Space::kData)
          numbers(v.name, v.type, v.address.offset, 0, seen, out);
    }
    leave_touched(out);
    constexpr std::size_t kMost = 8;
    if (out.size() > kMost) out.resize(kMost);
    return out;
  }

  /// Those that the function reads or writes.
  void leave_touched(std::vector<Variant>& variants) const {
    const auto watching = base_->clone();
    (void)watching->set_breakpoint(returns_to_, true);
    for (const Variant& variant : variants)
      for (const machine::Edit& edit : variant.edits)
        (void)watching->watch(edit.address, machine::kOnRead | machine::kOnWrite);
    std::set<Address> touched;
    machine::RunRequest request;
    request.until_ticks = until_;
    for (bool under_way = true; under_way;) {
      const Stop stop = watching->run(request);
      request.pass_first_breakpoint = true;
      for (const machine::Access& access : stop.accesses) {
        touched.insert(access.address);
        (void)watching->watch(access.address, 0);
      }
      under_way = stop.why == Stop::Why::kAccess ||
                  (stop.why == Stop::Why::kBreakpoint && watching->sp() != sp_behind_);
    }
    variants.erase(std::remove_if(variants.begin(), variants.end(),
                                  [&](const Variant& variant) {
                                    return std::none_of(variant.edits.begin(), variant.edits.end(),
                                                        [&](const machine::Edit& edit) {
                                                          return touched.count(edit.address) != 0;
                                                        });
                                  }),
                   variants.end());
  }

  void numbers(const std::string& name, unsigned type_index, std::uint32_t address, unsigned depth,
               std::set<std::uint32_t>& seen, std::vector<Variant>& out) const {
    using Kind = Type::Kind;
    constexpr unsigned kDeepest = 4, kMostElements = 64;
    const Type& type = core_.program_.types()[type_index];
    if (depth > kDeepest) return;
    if (type.kind == Kind::kStruct)
      for (const Type::Member& member : type.members)
        if (member.bit_size == 0)
          numbers(name + "." + member.name, member.type, address + member.offset, depth + 1, seen,
                  out);
    if (type.kind == Kind::kArray)
      for (std::uint32_t i = 0; i < std::min(type.count, kMostElements); ++i)
        numbers(fmt::format("{}[{}]", name, i), type.target,
                address + i * core_.program_.types()[type.target].bytes, depth + 1, seen, out);
    if (type.kind != Kind::kSigned && type.kind != Kind::kUnsigned) return;
    if (type.bytes < 2 || type.bytes > 8) return;
    std::uint64_t old = 0, now = 0;
    bool some_stay = false;
    for (std::uint32_t i = 0; i < type.bytes; ++i) {
      const std::uint64_t a = base_->peek({Space::kData, address + i}).value_or(0);
      const std::uint64_t b = fork_->peek({Space::kData, address + i}).value_or(0);
      old |= a << (8 * i);
      now |= b << (8 * i);
      some_stay = some_stay || a == b;
    }
    if (old == now || !some_stay || !seen.insert(address).second) return;
    // It counts up or down by a little: the value before all bytes but the highest overflow.
    const std::uint64_t carry = std::uint64_t{1} << (8 * (type.bytes - 1));
    const std::uint64_t up = (now - old) & (carry * 256 - 1);
    const std::uint64_t down = (old - now) & (carry * 256 - 1);
    constexpr std::uint64_t kLittle = 256;
    if (std::min(up, down) >= std::min(kLittle, carry)) return;
    const std::uint64_t value = up < down ? carry - up : carry - 1 + down;
    if (value == old) return;
    Variant variant;
    variant.text = fmt::format("{} = {}", name, value);
    for (std::uint32_t i = 0; i < type.bytes; ++i)
      variant.edits.push_back(
          {machine::Edit::Kind::kPoke, {Space::kData, address + i}, 0, value >> (8 * i) & 0xffU});
    out.push_back(std::move(variant));
  }

  Core& core_;
  const RaceSpec& spec_;
  std::vector<const Function*> functions_;
  const Function* function_ = nullptr;
  std::vector<Vector> vectors_;
  std::unique_ptr<expression::Expression> expectation_;
  std::shared_ptr<Machine> base_;  ///< at the function's entry
  std::unique_ptr<Machine> fork_;  ///< a breakpoint stands at the return
  std::uint32_t returns_to_ = 0, sp_behind_ = 0;
  std::uint64_t entered_ = 0, entered_cycle_ = 0, until_ = 0, placements_ = 0;
  std::vector<Span> spans_;
  std::set<unsigned> results_;  ///< registers
  Variant variant_;
  std::vector<std::unique_ptr<Ending>> before_, behind_;  ///< the two orders, by vector
  std::vector<Found> found_;
  RaceView view_;
  bool asked_ = false;
};

Result<RaceView> Session::Core::race_search(const RaceSpec& spec) {
  if (image_path_.empty()) return fail(ErrorCode::kUsage, "no image has been loaded yet");
  auto out = Race(*this, spec).search();
  pause_requested_ = false;
  return out;
}

Result<RaceView> Session::race_search(const RaceSpec& spec) { return core_->race_search(spec); }

}  // namespace lucid
