// SPDX-License-Identifier: MIT
#include "machine/outside.h"

#include <algorithm>
#include <exception>
#include <utility>

#include "base/text.h"
#include "lucid/time.h"

namespace lucid {

Wires::~Wires() = default;
Part::~Part() = default;

std::uint64_t Wires::ticks(std::uint64_t microseconds) const {
  return to_ticks({microseconds * 1'000'000}, clock_hz());
}

Result<void> Part::act(Wires& /*wires*/, const std::string& action,
                       const std::string& /*value*/) const {
  return fail(ErrorCode::kUsage, "nobody can " + action + " '" + name_ + "'");
}

namespace machine {

/// What a part sees.
class Outside::View final : public Wires {
 public:
  View(const Outside& outside, Terminals& chip, unsigned part)
      : outside_(outside), chip_(chip), part_(part) {}

  [[nodiscard]] std::uint64_t now() const override { return chip_.tick(); }
  [[nodiscard]] std::uint64_t clock_hz() const override { return chip_.clock_hz(); }
  [[nodiscard]] std::int32_t supply() const override { return chip_.supply(); }
  [[nodiscard]] bool level(unsigned pin) const override { return chip_.level(number_of(pin)); }
  void drive(unsigned pin, std::optional<bool> level) override {
    set_level(pin, OutsideLevel::of(level));
  }
  void apply(unsigned pin, std::int32_t microvolts) override {
    constexpr std::int32_t kBeyond = 500'000;
    set_level(pin, {OutsideLevel::kVoltage, std::clamp(microvolts, -kBeyond, supply() + kBeyond)});
  }
  void reset() override { chip_.reset(); }
  void set_supply(std::int32_t microvolts) override { chip_.set_supply(microvolts); }
  void send(const std::string& port, const std::string& bytes) override { chip_.send(port, bytes); }
  void send_frame(const std::string& port, const SerialFrame& frame) override {
    chip_.send_frame(port, frame);
  }
  void transfer(const TwoWireTransfer& transfer) override { chip_.transfer(transfer); }
  Result<void> act(const std::string& part, const std::string& action,
                   const std::string& value) override {
    const Part& self = outside_.part(part_);
    if (base::equal_ignoring_case(self.name(), part) || !outside_.has(part))
      return fail(ErrorCode::kNotFound, "there is no part '" + part + "'");
    auto done = outside_.act(chip_, part, action, value);
    if (!done) chip_.note("an input was not taken: " + done.error().text());
    return done;
  }
  void note(const std::string& text) override {
    chip_.note(outside_.part(part_).name() + ": " + text);
  }
  void wake_at(std::uint64_t tick) override { chip_.wake(part_, std::max(tick, now() + 1)); }
  std::int64_t& number(unsigned index) override { return chip_.outside().numbers[part_][index]; }

 private:
  [[nodiscard]] unsigned number_of(unsigned pin) const { return outside_.parts_[part_].pins[pin]; }
  void set_level(unsigned pin, const OutsideLevel& level) {
    if (outside_.part(part_).is_a_hand())
      chip_.by_hand(number_of(pin)) = level;
    else
      chip_.outside().levels[part_][pin] = level;
    outside_.settle(chip_, number_of(pin));
  }

  const Outside& outside_;
  Terminals& chip_;
  const unsigned part_;
};

Result<void> Outside::add(std::shared_ptr<const Part> part, std::vector<unsigned> pins) {
  for (const Wired& other : parts_)
    if (other.part->name() == part->name())
      return fail(ErrorCode::kOutOfRange, "two parts are called '" + part->name() + "'");
  parts_.push_back({std::move(part), std::move(pins)});
  return {};
}

bool Outside::has(const std::string& name) const {
  return std::any_of(parts_.begin(), parts_.end(), [&](const Wired& wired) {
    return base::equal_ignoring_case(wired.part->name(), name);
  });
}

void Outside::settle(Terminals& chip, unsigned pin) const {
  const OutsideLevel& hand = chip.by_hand(pin);
  OutsideLevel all = hand;
  bool fought = false;
  const auto add = [&](const OutsideLevel& level) {
    if (level.kind == OutsideLevel::kOpen) return;
    const bool first = all.kind == OutsideLevel::kOpen;
    fought = fought || (!first && (level.kind != all.kind || level.microvolts != all.microvolts));
    const bool goes_before = level.kind == OutsideLevel::kVoltage ||
                             (level.kind == OutsideLevel::kLow && all.kind == OutsideLevel::kHigh);
    if (first || (goes_before && hand.kind == OutsideLevel::kOpen)) all = level;
  };
  const OutsideState& state = chip.outside();
  for (std::size_t part = 0; part < parts_.size(); ++part)
    for (std::size_t i = 0; i < state.levels[part].size(); ++i)
      if (parts_[part].pins[i] == pin) add(state.levels[part][i]);
  chip.settle(pin, all, fought);
}

/// Calls the part. One that throws is off from there, and the run ends saying so: an exception must
/// not travel through translated code.
template <class Call>
void Outside::ask(Terminals& chip, unsigned part, Call call) const {
  const auto& numbers = chip.outside().numbers[part];
  if (numbers.empty() || numbers.back() != 0) return;  // not started yet, or off
  std::string why = "an unknown exception";
  try {
    View view(*this, chip, part);
    const Part& asked = *parts_[part].part;
    call(asked, view);
    if (chip.wants_quantities())
      for (unsigned i = 0; i < asked.quantities().size(); ++i)
        chip.measured(part, i, asked.measure(view, i));
    return;
  } catch (const std::exception& error) {
    why = error.what();
  } catch (...) {
  }
  chip.outside().numbers[part].back() = 1;
  chip.wake(part, std::nullopt);
  chip.fail("the part '" + parts_[part].part->name() + "' has failed and is off from here: " + why);
}

void Outside::clear(OutsideState& state) const {
  state.numbers.assign(parts_.size(), {});
  state.levels.assign(parts_.size(), {});
}

void Outside::start(Terminals& chip, unsigned part) const {
  chip.outside().numbers[part].assign(parts_[part].part->numbers() + 1, 0);
  chip.outside().levels[part].assign(parts_[part].pins.size(), {});
  chip.wake(part, std::nullopt);
  ask(chip, part, [](const Part& p, View& view) { p.start(view); });
}

Result<void> Outside::act(Terminals& chip, const std::string& part, const std::string& action,
                          const std::string& value) const {
  for (unsigned i = 0; i < parts_.size(); ++i) {
    if (!base::equal_ignoring_case(parts_[i].part->name(), part)) continue;
    Result<void> done = fail(ErrorCode::kUnsupported,
                             "the part '" + parts_[i].part->name() + "' is off: it has failed");
    ask(chip, i, [&](const Part& p, View& view) { done = p.act(view, action, value); });
    return done;
  }
  std::vector<std::string> names;
  for (const Wired& wired : parts_) names.push_back(wired.part->name());
  return fail(ErrorCode::kNotFound, "there is no part '" + part + "' on the bench",
              names.empty() ? "give a bench file with --bench" : did_you_mean(part, names));
}

std::vector<PartState> Outside::states(Terminals& chip) const {
  std::vector<PartState> out;
  for (unsigned i = 0; i < parts_.size(); ++i) {
    PartState state{parts_[i].part->name(), parts_[i].part->pins(), "off: it has failed", true};
    ask(chip, i, [&](const Part& p, View& view) {
      state.state = p.describe(view);
      state.failed = p.failed(view);
      for (const Part::Quantity& quantity : p.quantities()) {
        const auto place = static_cast<unsigned>(state.quantities.size());
        state.quantities.push_back({quantity.name, quantity.unit, p.measure(view, place)});
      }
      for (const Part::Action& action : p.actions())
        state.actions.push_back({action.action, action.value, action.any_value});
    });
    out.push_back(std::move(state));
  }
  return out;
}

void Outside::on_pin(Terminals& chip, unsigned part, unsigned pin, bool level) const {
  ask(chip, part, [&](const Part& p, View& view) {
    const auto& pins = parts_[part].pins;
    for (unsigned i = 0; i < pins.size(); ++i)
      if (pins[i] == pin) p.on_pin(view, i, level);
  });
}

void Outside::on_byte(Terminals& chip, unsigned part, const std::string& port,
                      std::uint8_t byte) const {
  ask(chip, part, [&](const Part& p, View& view) { p.on_byte(view, port, byte); });
}

void Outside::on_time(Terminals& chip, unsigned part) const {
  ask(chip, part, [](const Part& p, View& view) { p.on_time(view); });
}

bool Outside::on_address(Terminals& chip, unsigned part, std::uint8_t address, bool reading) const {
  bool acknowledged = false;
  ask(chip, part,
      [&](const Part& p, View& view) { acknowledged = p.on_address(view, address, reading); });
  return acknowledged;
}

bool Outside::on_bus_byte(Terminals& chip, unsigned part, std::uint8_t byte) const {
  bool acknowledged = false;
  ask(chip, part, [&](const Part& p, View& view) { acknowledged = p.on_bus_byte(view, byte); });
  return acknowledged;
}

std::uint8_t Outside::bus_byte(Terminals& chip, unsigned part) const {
  std::uint8_t byte = 0xff;
  ask(chip, part, [&](const Part& p, View& view) { byte = p.bus_byte(view); });
  return byte;
}

void Outside::on_stop(Terminals& chip, unsigned part) const {
  ask(chip, part, [](const Part& p, View& view) { p.on_stop(view); });
}

}  // namespace machine
}  // namespace lucid
