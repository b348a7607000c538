// SPDX-License-Identifier: MIT
// Quiet: the past is looked through as if nobody had set anything.
#ifndef LUCID_SESSION_QUIET_H
#define LUCID_SESSION_QUIET_H

#include <optional>
#include <vector>

#include "session/core.h"

namespace lucid {

/// While a Quiet lives, nothing that people have set acts, and nobody is told.
class Session::Core::Quiet {
 public:
  explicit Quiet(Core& core) : core_(core) {
    core_.replaying_ = core_.walking_ = true;
    breakpoints_.swap(core_.breakpoints_);
    no_handler_.swap(core_.no_handler_);
    core_.arming_.clear();
    core_.sync_marks();
    for (const machine::Fault fault : kFaults)
      if (core_.machine().fault_is_on(fault)) {
        faults_.push_back(fault);
        core_.machine().set_fault(fault, false);
      }
    core_.make_marks();
  }
  ~Quiet() {
    breakpoints_.swap(core_.breakpoints_);
    no_handler_.swap(core_.no_handler_);
    for (const machine::Fault fault : faults_) core_.machine().set_fault(fault, true);
    core_.replaying_ = core_.walking_ = false;
    core_.limit_end_ = UINT64_MAX;
    core_.acts_until_ = SIZE_MAX;
    core_.near_.clear();
    core_.sync_marks();
    core_.remarks_ = {};
    core_.returned_.clear();
  }
  Quiet(const Quiet&) = delete;
  Quiet& operator=(const Quiet&) = delete;

 private:
  static constexpr machine::Fault kFaults[] = {machine::Fault::kReservedInstruction,
                                               machine::Fault::kErasedFlash,
                                               machine::Fault::kOutsideMemory,
                                               machine::Fault::kStackOutsideRam,
                                               machine::Fault::kStackIntoData,
                                               machine::Fault::kNeverWritten,
                                               machine::Fault::kBusyFlash};
  Core& core_;
  std::vector<Entry> breakpoints_;
  std::optional<std::uint32_t> no_handler_;
  std::vector<machine::Fault> faults_;
};

}  // namespace lucid

#endif  // LUCID_SESSION_QUIET_H
