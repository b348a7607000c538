// SPDX-License-Identifier: MIT
// Interrupts that are raised by hand, and races that are stood at.
#include <fmt/format.h>

#include "session/kept.h"

namespace lucid {

using machine::Machine;

Result<unsigned> Session::Core::vector_named(const std::string& interrupt) const {
  std::vector<std::string> names;
  for (const InterruptVector& vector : machine().info().vectors) {
    if (vector.name == interrupt) return vector.number;
    names.push_back(vector.name);
  }
  return fail(ErrorCode::kNotFound,
              fmt::format("{} has no interrupt '{}'", machine().info().name, interrupt),
              did_you_mean(interrupt, names));
}

Result<void> Session::Core::raise(unsigned vector, std::optional<std::uint8_t> byte) {
  const std::string& name = machine().info().vectors[vector].name;
  // What cannot come leaves everything as it is.
  const auto trial = machine().clone();
  const Machine::Raised raised = trial->raise(vector, byte);
  if (raised == Machine::Raised::kNot)
    return fail(ErrorCode::kUsage,
                fmt::format("{} cannot come here: it is not enabled, or nothing is under way that "
                            "it could tell of",
                            name),
                "`show io` of its peripheral says how it is set up");
  if (raised == Machine::Raised::kForced && listener_ != nullptr)
    listener_->on_note(name + " is forced: its peripheral would not ask for it by itself here");
  const machine::Edit edit{machine::Edit::Kind::kRaise, {}, vector, byte ? 0x100U | *byte : 0U};
  (void)machine::make(machine(), edit);
  record::Act act;
  act.edits.push_back(edit);
  acted(std::move(act));
  return {};
}

Result<Pause> Session::Core::go_to_race(std::size_t number) {
  if (number == 0 || number > races_.size())
    return fail(ErrorCode::kNotFound,
                races_.empty() ? "no race has been found"
                               : fmt::format("there is no race {}, only {}", number, races_.size()),
                "`race search FUNCTION` looks for them");
  const Raced& race = races_[number - 1];
  if (race.loads != loads_)
    return fail(ErrorCode::kUsage, "the image has been loaded anew since", "search again");
  const auto kept = keep();
  if (now() != record::Moment{races_from_->machine->ticks(), races_from_->done})
    if (const std::string left = keep_end(); !left.empty() && listener_ != nullptr)
      listener_->on_note("this goes back to where the search began; `revert to " + left +
                         "` leads back here");
  if (auto begun = return_to(*races_from_); !begun) return begun;
  const auto lost = [&](const std::string& why) -> tl::unexpected<Error> {
    (void)return_to(*kept).has_value();
    return fail(ErrorCode::kUsage, fmt::format("race {} cannot be stood at: {}", number, why));
  };
  // Breakpoints on the way are counted and do not pause.
  const auto come_to = [&](std::uint64_t tick) {
    machine::RunRequest request;
    request.until_ticks = tick;
    while (machine().ticks() < tick) {
      const Pause::Cause cause = go(request, Pause::Cause::kArrived).cause;
      if (cause == Pause::Cause::kFault || cause == Pause::Cause::kRequested ||
          cause == Pause::Cause::kLimit || cause == Pause::Cause::kBreakInstruction)
        break;
    }
    return machine().ticks() == tick;
  };
  if (!race.edits.empty()) {
    if (!come_to(race.entered)) return lost("the run ended before it");
    record::Act act;
    act.edits = race.edits;
    for (const machine::Edit& edit : act.edits) (void)machine::make(machine(), edit);
    acted(std::move(act));
  }
  std::string names;
  for (const Raced::Raise& one : race.raises) {
    if (!come_to(one.tick) || machine().pc() != one.pc) return lost("the run ended before it");
    if (auto raised = raise(one.vector, race.byte); !raised) return lost(raised.error().what);
    names += (names.empty() ? "" : ", then ") + machine().info().vectors[one.vector].name;
  }
  pause_.cause = Pause::Cause::kArrived;
  pause_.remarks.push_back(
      fmt::format("race {}: {} is raised here, and comes next", number, names));
  return pause_;
}

Result<Pause> Session::go_to_race(std::size_t number) { return core_->go_to_race(number); }

Result<void> Session::raise(const std::string& interrupt, std::optional<std::uint8_t> byte) {
  const auto vector = core_->vector_named(interrupt);
  return vector ? core_->raise(*vector, byte) : fail(vector.error());
}

}  // namespace lucid
