// SPDX-License-Identifier: MIT
#include "record/recording.h"

#include "machine/companions.h"

namespace lucid::record {

template <class Do>
void Recording::each(Do act) {
  act(own_);
  for (auto& [chip, recorder] : beside_) act(recorder);
}

Recorder& Recording::of(const std::string& chip) {
  if (chip.empty()) return own_;
  const auto [at, is_new] = beside_.try_emplace(chip);
  if (is_new) {
    at->second.set_bound(bound_);
    at->second.set_file(file_);
  }
  return at->second;
}

bool Recording::empty() const {
  for (const auto& [chip, recorder] : beside_)
    if (!recorder.empty()) return false;
  return own_.empty();
}

void Recording::take_over(Recording& other, unsigned id) {
  if (other.own_.has(id)) own_.take_over(other.own_, id);
  for (auto& [chip, recorder] : other.beside_)
    if (recorder.has(id)) of(chip).take_over(recorder, id);
}

void Recording::remove(unsigned id) {
  each([id](Recorder& recorder) { recorder.remove(id); });
}

void Recording::clear() {
  each([](Recorder& recorder) { recorder.clear(); });
}

void Recording::set_bound(std::size_t bytes) {
  bound_ = bytes;
  each([bytes](Recorder& recorder) { recorder.set_bound(bytes); });
}

void Recording::set_file(const std::shared_ptr<SignalFile>& file) {
  file_ = file;
  each([&file](Recorder& recorder) { recorder.set_file(file); });
}

std::optional<Error> Recording::trouble() {
  std::optional<Error> out;
  each([&out](Recorder& recorder) {
    if (auto trouble = recorder.trouble()) out = std::move(trouble);
  });
  return out;
}

void Recording::mark(unsigned breakpoint, const machine::Machine& machine) {
  own_.mark(breakpoint, machine.ticks());
  for (auto& [chip, recorder] : beside_)
    if (!recorder.empty())
      recorder.mark(breakpoint,
                    machine::sure_tick(machine.ticks(), machine.info().clock_hz, recorder.hz()));
}

void Recording::cut_at(std::uint64_t tick, const machine::Machine& machine) {
  own_.cut_at(tick);
  for (auto& [chip, recorder] : beside_)
    if (!recorder.empty())
      recorder.cut_at(machine::sure_tick(tick, machine.info().clock_hz, recorder.hz()));
}

const Recorder* Recording::holder(unsigned id) const {
  for (const auto& [chip, recorder] : beside_)
    if (recorder.has(id)) return &recorder;
  return &own_;
}

std::optional<Signal> Recording::signal(unsigned id) const { return holder(id)->signal(id); }
std::size_t Recording::windows(unsigned id) const { return holder(id)->windows(id); }

std::uint64_t Recording::futures() const {
  std::uint64_t out = own_.futures();
  for (const auto& [chip, recorder] : beside_) out += recorder.futures();
  return out;
}

}  // namespace lucid::record
