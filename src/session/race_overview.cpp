// SPDX-License-Identifier: MIT
// All places in the code where an interrupt could tear something, and what comes of trying.
#include <algorithm>
#include <tuple>

#include "session/masks.h"
#include "session/quiet.h"
#include "session/race.h"

namespace lucid {

using machine::Machine;

class Session::Core::RaceOverviewer {
  using Verdict = PossibleRace::Verdict;

 public:
  RaceOverviewer(Core& core, const RaceOverviewSpec& spec)
      : core_(core), spec_(spec), accesses_(core), masks_(core, accesses_.flows()) {}

  Result<RaceOverview> run() {
    if (auto found = find_vectors(); !found) return fail(found.error());
    for (const Function& function : core_.program_.functions())
      if (function.has_lines && function.begin < function.end) look_at(function);
    core_.races_.clear();
    core_.races_from_ = core_.keep();
    if (auto tried = try_them(); !tried) return fail(tried.error());
    const auto place = [](const PossibleRace& p) {
      return std::tie(p.where.file, p.where.line, p.where.address, p.object, p.interrupt);
    };
    for (Candidate& candidate : candidates_) out_.possible.push_back(std::move(candidate.view));
    std::stable_sort(
        out_.possible.begin(), out_.possible.end(),
        [&](const PossibleRace& a, const PossibleRace& b) { return place(a) < place(b); });
    return std::move(out_);
  }

 private:
  struct Candidate {
    Race::Stretch stretch;
    unsigned arrivals = 0;
    PossibleRace view;
    [[nodiscard]] bool waits() const {
      constexpr unsigned kMost = 20;
      return arrivals < kMost &&
             (view.verdict == Verdict::kNotCome || view.verdict == Verdict::kWaits);
    }
  };

  Result<void> find_vectors() {
    for (const std::string& name : spec_.interrupts) {
      const auto number = core_.vector_named(name);
      if (!number) return fail(number.error());
      vectors_.insert(*number);
    }
    if (!vectors_.empty()) return {};
    for (const auto& [number, begin] : core_.handler_begins())
      if (number != 0 && core_.program_.function_at(begin) != nullptr && begin != core_.no_handler_)
        vectors_.insert(number);
    return {};
  }

  /// At each instruction before which an interrupt may come: what it stands in the middle of.
  void look_at(const Function& function) {
    const std::vector<bool> open = masks_.open_in(function);
    const auto nodes = accesses_.flows().of(core_.program_, core_.machine(), function).nodes();
    for (std::size_t i = 0; i < nodes.size(); ++i) {
      if (!open[i]) continue;
      for (const Accesses::Open& one : accesses_.open_at(nodes[i].address))
        for (const unsigned vector : vectors_) add(function, one, vector);
    }
  }

  void add(const Function& function, const Accesses::Open& open, unsigned vector) {
    using How = Accesses::Open::How;
    // What it changes is graver than what it reads.
    const Accesses::Access* other = nullptr;
    for (const Accesses::Access& access : accesses_.of(vector)) {
      if (!open.object.holds(access.address)) continue;
      if (access.write || (other == nullptr && open.how == How::kWrites)) other = &access;
      if (access.write) break;
    }
    if (other == nullptr || open.parts.size() < 2) return;
    const auto& graph = accesses_.flows().of(core_.program_, core_.machine(), function);
    const auto last = graph.node_at(open.parts.back().pc);
    if (!last) return;
    const auto& node = graph.nodes()[*last];
    const std::uint32_t begin = open.parts.front().pc, behind = node.address + node.size;
    const std::string& interrupt = core_.machine().info().vectors[vector].name;
    for (Candidate& known : candidates_)
      if (known.stretch.begin == begin && known.stretch.open.object.begin == open.object.begin &&
          known.view.interrupt == interrupt) {
        if (behind > known.stretch.behind) known.stretch = {begin, behind, open};
        return;
      }
    Candidate out;
    out.stretch = {begin, behind, open};
    out.view.object = open.object.name;
    out.view.how = open.how == How::kReads    ? PossibleRace::How::kReads
                   : open.how == How::kWrites ? PossibleRace::How::kWrites
                                              : PossibleRace::How::kChanges;
    out.view.interrupt = interrupt;
    out.view.interrupt_changes = other->write;
    out.view.where = core_.location(begin);
    out.view.other = core_.location(other->pc);
    if (open.again) out.view.verdict = Verdict::kReadAgain;
    candidates_.push_back(std::move(out));
  }

  /// One run over the time ahead; where it comes to a place, that is tried on copies.
  Result<void> try_them() {
    const std::uint64_t hz = core_.machine().info().clock_hz;
    const std::uint64_t until = core_.later(to_ticks(spec_.within, hz));
    out_.until = to_time(until, hz);
    return Race::away(core_, [&](const Race::Faults& faults) {
      for (;;) {
        std::set<std::uint32_t> begins;
        for (const Candidate& candidate : candidates_)
          if (candidate.waits()) begins.insert(candidate.stretch.begin);
        if (begins.empty()) break;
        if (!Race::come_to(core_, {begins.begin(), begins.end()}, until)) break;
        const auto here = core_.machine().clone();
        for (const machine::Fault fault : faults) here->set_fault(fault, true);
        for (Candidate& candidate : candidates_)
          if (candidate.waits() && candidate.stretch.begin == here->pc()) try_one(candidate, *here);
        if (out_.interrupted) break;
      }
      if (core_.pause_requested_.exchange(false)) out_.interrupted = true;
    });
  }

  void try_one(Candidate& candidate, const Machine& here) {
    ++candidate.arrivals;
    RaceSpec spec;
    spec.interrupts = {candidate.view.interrupt};
    Race race(core_, spec);
    const auto view = race.search(candidate.stretch, here);
    if (!view) return;
    out_.interrupted = view->interrupted;
    candidate.view.placements += view->interrupts.front().placements;
    candidate.view.verdict = candidate.view.placements == 0 ? Verdict::kWaits : Verdict::kNone;
    for (Race::Found& found : race.found()) {
      out_.findings.push_back(std::move(found.finding));
      core_.races_.push_back(std::move(found.raced));
      candidate.view.races.push_back(out_.findings.size());
      candidate.view.verdict = Verdict::kRace;
    }
  }

  Core& core_;
  const RaceOverviewSpec& spec_;
  Accesses accesses_;
  Masks masks_;
  std::set<unsigned> vectors_;
  std::vector<Candidate> candidates_;
  RaceOverview out_;
};

Result<RaceOverview> Session::Core::race_overview(const RaceOverviewSpec& spec) {
  if (image_path_.empty()) return fail(ErrorCode::kUsage, "no image has been loaded yet");
  // Nothing found would be no answer where nothing could be.
  const auto& functions = program_.functions();
  const bool has_lines = std::any_of(functions.begin(), functions.end(),
                                     [](const Function& function) { return function.has_lines; });
  if (!has_lines || program_.types().size() <= 1)
    return fail(
        ErrorCode::kUnsupported,
        "the image does not say which lines and variables it has: what could be torn cannot "
        "be told",
        "open the ELF file, built with -gdwarf-4");
  auto out = RaceOverviewer(*this, spec).run();
  pause_requested_ = false;
  return out;
}

Result<RaceOverview> Session::race_overview(const RaceOverviewSpec& spec) {
  return core_->race_overview(spec);
}

}  // namespace lucid
