// SPDX-License-Identifier: MIT
// What people change from outside: values assigned, pins driven, bytes fed. Each is noted with its
// tick, so that it happens again when the past is gone through.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "lucid/session.h"
#include "session/checks.h"

namespace lucid {

Result<Value> Session::let(const std::string& object, const std::string& text, bool with_effects) {
  if (auto done = core_->assign(object, text, with_effects); !done) return fail(done.error());
  core_->deliver();
  core_->pause_.where = core_->location(core_->machine().pc());
  return evaluate(object);
}

Result<void> Session::Core::assign(const std::string& object, const std::string& text,
                                   bool with_effects) {
  const frames::Scope scope = this->scope();
  auto to = expression::Expression::parse(object, scope);
  if (!to) return fail(to.error());
  auto from = expression::Expression::parse(text, scope);
  if (!from) return fail(from.error());
  auto target = to->evaluate(scope);
  if (!target) return fail(target.error());
  if (target->elsewhere != nullptr) return not_this_chip(object, target->elsewhere->chip);
  auto value = from->evaluate(scope);
  if (!value) return fail(value.error());
  if (target->value.kind == Value::Kind::kAggregate || value->value.kind == Value::Kind::kAggregate)
    return fail(ErrorCode::kUsage, "a structure or array cannot be assigned whole",
                "assign to a member or an element");
  std::uint64_t raw = static_cast<std::uint64_t>(value->value.integer);
  if (target->value.kind == Value::Kind::kReal) {
    const auto real = static_cast<float>(value->value.kind == Value::Kind::kReal
                                             ? value->value.real
                                             : static_cast<double>(value->value.integer));
    std::uint32_t word = 0;
    static_assert(sizeof word == sizeof real);
    std::copy_n(reinterpret_cast<const char*>(&real), sizeof real, reinterpret_cast<char*>(&word));
    raw = word;
  } else if (value->value.kind == Value::Kind::kReal) {
    raw = static_cast<std::uint64_t>(expression::whole_number(value->value.real));
  }
  if (target->place.kind == frames::Place::Kind::kPin) {
    return drive(target->place.pin, raw != 0);
  } else {
    auto stored = expression::store(machine(), target->place, raw, with_effects);
    if (!stored) return fail(stored.error());
    record::Act act;
    act.edits = std::move(*stored);
    acted(std::move(act));
  }
  return {};
}

void Session::Core::acted(record::Act act) {
  if (supposing_) return;
  const record::Moment here = now();
  act.tick = here.tick;
  act.standing = act.standing || !running_;
  if (in_past()) {
    const std::string left = keep_end();
    timeline_.fork(here);
    forget_future(here.tick);
    if (listener_ != nullptr && !left.empty())
      listener_->on_note(
          fmt::format("this begins another future; `revert to {}` leads back to the "
                      "end of the one that was",
                      left));
  }
  act.input.tick = here.tick;
  act.input.at = to_time(here.tick, machine().info().clock_hz);
  timeline_.did(std::move(act));
  timeline_.reach(now());
}

/// Behind a tick another future begins.
void Session::Core::forget_future(std::uint64_t tick) {
  recording_.cut_at(tick, machine());
  paused_.erase(std::remove_if(paused_.begin(), paused_.end(),
                               [tick](const Paused& p) { return p.tick > tick; }),
                paused_.end());
}

Result<void> Session::Core::entered(Result<void> done, Input input) {
  if (!done) return done;
  record::Act act;
  act.input = std::move(input);
  acted(std::move(act));
  return done;
}

Result<void> Session::act(const std::string& part, const std::string& action,
                          const std::string& value) {
  Input input;
  input.part = part;
  input.action = action;
  input.value = value;
  return core_->entered(core_->chip_.act(part, action, value), std::move(input));
}

/// Lets go of it then, at the first instruction boundary.
Result<void> Session::Core::drive_until(const std::string& pin, Result<void> done,
                                        Picoseconds span) {
  if (!done) return done;
  record::Act act;
  act.tick = later(to_ticks(span, machine().info().clock_hz));
  act.input.pin = pin;
  act.lets_go = true;
  timeline_.plan(std::move(act));
  return done;
}

Result<void> Session::drive_for(const std::string& pin, bool level, Picoseconds span) {
  return core_->drive_until(pin, drive(pin, level), span);
}

Result<void> Session::apply_voltage_for(const std::string& pin, double volts, Picoseconds span) {
  return core_->drive_until(pin, apply_voltage(pin, volts), span);
}

Result<void> Session::transfer(const TwoWireTransfer& transfer) {
  Input input;
  input.transfer = transfer;
  return core_->entered(core_->machine().transfer(transfer), std::move(input));
}

Result<void> Session::feed_frame(const std::string& port, const SerialFrame& frame) {
  Input input;
  input.serial = port;
  input.frame = frame;
  return core_->entered(core_->machine().feed_frame(port, frame), std::move(input));
}

Result<void> Session::apply_voltage(const std::string& pin, double volts) {
  Input input;
  input.pin = pin;
  input.microvolts = static_cast<std::int32_t>(std::lround(volts * 1e6));
  auto done = core_->chip_.apply_voltage(pin, volts);
  if (done) core_->timeline_.forget_plans(pin);
  return core_->entered(std::move(done), std::move(input));
}

Result<void> Session::drive(const std::string& pin, std::optional<bool> level) {
  return core_->drive(pin, level);
}

Result<void> Session::Core::drive(const std::string& pin, std::optional<bool> level) {
  Input input;
  input.pin = pin;
  input.level = level;
  auto done = machine().drive(pin, level);
  if (done) timeline_.forget_plans(pin);
  return entered(std::move(done), std::move(input));
}

Result<void> Session::feed(const std::string& port, const std::string& bytes) {
  return core_->feed(port, bytes);
}

Result<void> Session::Core::feed(const std::string& port, const std::string& bytes) {
  auto done = machine().feed(port, bytes);
  if (bytes.empty()) return done;
  Input input;
  input.serial = port;
  input.bytes = bytes;
  return entered(std::move(done), std::move(input));
}

const std::vector<Input>& Session::Core::inputs() const {
  inputs_.clear();
  for (std::size_t i = 0; i < timeline_.done(); ++i)
    if (const record::Act& act = timeline_.acts()[i]; act.edits.empty()) {
      inputs_.push_back(act.input);
      inputs_.back().tick = act.tick;
      inputs_.back().at = to_time(act.tick, machine().info().clock_hz);
    }
  return inputs_;
}

const std::vector<Input>& Session::inputs() const { return core_->inputs(); }

}  // namespace lucid
