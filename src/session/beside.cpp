// SPDX-License-Identifier: MIT
// The chips beside the one that is debugged: their programs, and how they are listened to.
#include <fmt/format.h>

#include <map>

#include "machine/companions.h"
#include "session/core.h"

namespace lucid {

namespace {

/// Each is read when it is first asked for.
class ProgramsBeside final : public frames::OtherPrograms {
 public:
  using Named = Program (*)(const Program& program, const machine::Machine& machine);
  ProgramsBeside(const Chip& chip, Named named) : chip_(chip), named_(named) {}

  [[nodiscard]] std::optional<Known> find(const std::string& chip) const override {
    const auto [at, is_new] = read_.try_emplace(chip);
    Read& of = at->second;
    if (is_new) {
      const machine::Machine& machine = chip_.machine();
      if (const Image* image = machine.companion_image(chip)) {
        const auto there = machine.companion(chip);
        of.program = named_(Program::read(*image), *there);
        const auto names = there->target().start_up_names();
        const Symbol* end = of.program.find_symbol(names.data_end);
        if (end != nullptr && end->address.space == Space::kData)
          of.static_end = end->address.offset;
        of.is_there = true;
      }
    }
    if (!of.is_there) return std::nullopt;
    return Known{&of.program, &of.flows, of.static_end};
  }

 private:
  struct Read {
    Program program;
    mutable frames::Flows flows;
    std::optional<std::uint32_t> static_end;
    bool is_there = false;
  };
  const Chip& chip_;
  Named named_;
  mutable std::map<std::string, Read> read_;
};

}  // namespace

std::unique_ptr<frames::OtherPrograms> Session::Core::programs_beside() const {
  return std::make_unique<ProgramsBeside>(chip_, &named);
}

std::string Session::Core::chip_in(const std::string& text) const {
  for (const std::string& chip : machine().companions())
    if (text.size() > chip.size() && text[chip.size()] == '.' && text.rfind(chip, 0) == 0)
      return chip;
  return {};
}

tl::unexpected<Error> Session::Core::not_this_chip(const std::string& object,
                                                   const std::string& chip) {
  return fail(ErrorCode::kUnsupported,
              fmt::format("'{}' is on chip '{}', not on the one that is debugged", object, chip),
              fmt::format("look at it with `pause when`, `watch` and `trace`, or open that chip "
                          "with --on {}",
                          chip));
}

Session::Core::Side Session::Core::side(const std::string& chip) const {
  std::shared_ptr<const machine::Machine> copy;
  if (!chip.empty()) copy = machine().companion(chip);
  if (copy == nullptr) return {{}, {}, scope()};
  return {chip, copy, expression::scope_on(chip, *copy, scope())};
}

/// Listens to a chip beside from where it surely was last; anew: what has been recorded of it is
/// forgotten.
void Session::Core::hear(const std::string& chip, record::Recorder& recorder, bool anew) {
  machine::Hearing hearing{recorder.kinds(), recorder.taps(), false, &recorder, recorder.moments()};
  hearing.places.assign(recorder.places().begin(), recorder.places().end());
  hearing.look = [&recorder](const machine::Machine& at) { return recorder.look_at(at); };
  hearing.calls = (recorder.kinds() & bit(machine::EventKind::kCall)) != 0;
  const machine::Machine* there = machine().hear(chip, hearing);
  if (there == nullptr) return;
  if (anew) recorder.begin_anew(*there);
  const frames::Scope on = expression::scope_on(chip, *there, scope());
  name_functions(recorder, on);
  recorder.look(*there, standing(recorder, on));
}

/// What is recorded of it begins now, with what it surely is.
void Session::Core::begin_beside(const std::string& chip, record::Recorder& recorder) {
  hear(chip, recorder, true);
  const std::uint64_t tick = machine().hear_out(chip);
  recorder.end_at(tick);
  recorder.begin_at(tick);
}

}  // namespace lucid
