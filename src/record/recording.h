// SPDX-License-Identifier: MIT
// Recording: signals of a machine and of the chips beside it, each chip's along its own clock.
#ifndef LUCID_RECORD_RECORDING_H
#define LUCID_RECORD_RECORDING_H

#include <map>
#include <memory>
#include <optional>
#include <string>

#include "record/recorder.h"

namespace lucid::record {

/// Ticks are those of the machine itself.
class Recording {
 public:
  /// `chip`: the name of one beside; empty: the machine itself.
  [[nodiscard]] Recorder& of(const std::string& chip);
  [[nodiscard]] Recorder& own() { return own_; }
  [[nodiscard]] std::map<std::string, Recorder>& beside() { return beside_; }
  [[nodiscard]] bool empty() const;
  /// Takes over what another one has of it.
  void take_over(Recording& other, unsigned id);
  void remove(unsigned id);
  void clear();
  /// Each chip's.
  void set_bound(std::size_t bytes);
  void set_file(const std::shared_ptr<SignalFile>& file);
  [[nodiscard]] std::optional<Error> trouble();

  void mark(unsigned breakpoint, const machine::Machine& machine);
  void cut_at(std::uint64_t tick, const machine::Machine& machine);

  [[nodiscard]] std::optional<Signal> signal(unsigned id) const;
  [[nodiscard]] std::size_t windows(unsigned id) const;
  [[nodiscard]] std::uint64_t futures() const;

 private:
  template <class Do>
  void each(Do act);
  [[nodiscard]] const Recorder* holder(unsigned id) const;

  Recorder own_;
  std::map<std::string, Recorder> beside_;
  std::size_t bound_ = Recorder::kBound;
  std::shared_ptr<SignalFile> file_;
};

}  // namespace lucid::record

#endif  // LUCID_RECORD_RECORDING_H
