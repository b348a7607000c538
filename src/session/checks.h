// SPDX-License-Identifier: MIT
// Checks: what watches the whole run for faults that are at no line.
//
// Most of the work is done when an interrupt is entered or has returned, so that the code between
// runs as it does without.
#ifndef LUCID_SESSION_CHECKS_H
#define LUCID_SESSION_CHECKS_H

#include <array>
#include <map>
#include <set>
#include <string>
#include <vector>

#include "lucid/finding.h"
#include "machine/values.h"
#include "session/accesses.h"

namespace lucid {

class Session::Core::Checks final : private machine::InterruptListener,
                                    private machine::ValueListener {
 public:
  enum Kind : unsigned {
    kTorn,
    kRegisters,
    kDataSheet,
    kContention,
    kNested,
    kNoVolatile,
    kSlow,
    kNeverWritten,  // this and the following follow values
    kFloating,
    kNullPointer,
    kGoneStack,
    kHeap,
    kBounds,
    kKinds
  };

  explicit Checks(Core& core) : core_(core), accesses_(core) { attend(); }

  [[nodiscard]] std::vector<Session::Check> list() const;
  Result<void> set(const std::string& name, CheckMode mode);
  void set_slow(Picoseconds over) { slow_over_ = over; }
  [[nodiscard]] const std::vector<FindingView>& findings() const { return findings_; }
  /// After an image has been loaded.
  void begin();
  /// What a machine had to say.
  void take(const machine::Note& note);
  /// For a run that ended with Fault::kCheck: the finding that did it.
  [[nodiscard]] std::string ended_by() const { return ended_by_; }

 private:
  using Object = Accesses::Object;
  using Open = Accesses::Open;
  struct Entered {
    unsigned vector = 0;
    std::uint32_t pc = 0, sp = 0;
    std::uint64_t tick = 0;
    std::array<std::uint8_t, 32> registers{};
    std::uint8_t flags = 0;
    std::shared_ptr<const std::vector<Open>> open;
    std::vector<std::vector<std::uint8_t>> before;  ///< of each, its bytes
    /// Of each, the instruction that reads it, or of an I/O register stores to it; 0: none.
    std::vector<std::uint32_t> touched_by;
  };
  void attend();
  bool entered(unsigned vector, const State& state) override;
  bool returned(const State& state) override;
  void forget() override { under_way_.clear(); }
  bool found(const machine::ValueFault& fault) override;

  [[nodiscard]] bool is_on(Kind kind) const { return modes_[kind] != CheckMode::kOff; }
  bool compare_registers(const Entered& entered, const State& state);
  bool compare_objects(const Entered& entered);
  bool compare_time(const Entered& entered);
  bool look_for_endless(const State& state);
  [[nodiscard]] bool is_still(std::uint32_t pc);
  [[nodiscard]] bool is_endless(const State& state) const;
  [[nodiscard]] std::uint32_t toucher_of(const Entered& entered, const Open& open);
  [[nodiscard]] std::uint32_t touched_on_a_copy(const Entered& entered, const Object& object,
                                                bool write);
  [[nodiscard]] std::vector<std::uint8_t> bytes_of(const Object& object) const;
  [[nodiscard]] Location handler(unsigned vector) const;
  [[nodiscard]] std::string said(const Location& where) const;
  // Followed values: value_checks.cpp.
  bool follow_values();
  [[nodiscard]] std::string told(const machine::ValueFault& fault) const;
  [[nodiscard]] std::string pins_of(const machine::ValueFault& fault) const;
  [[nodiscard]] std::string value_name(std::uint32_t address) const;
  struct LocalAt {
    std::string name, path, function;  ///< `buffer`, `[3]`, ` of fill`
  };
  [[nodiscard]] std::optional<LocalAt> local_at(std::uint32_t address) const;
  [[nodiscard]] std::string object_name(const machine::ValueFault& fault) const;
  /// True: it is new, and the run is to end there.
  bool found(Kind kind, FindingView finding);

  Core& core_;
  /// The first four are on, the others off.
  std::array<CheckMode, kKinds> modes_{CheckMode::kList, CheckMode::kList, CheckMode::kList,
                                       CheckMode::kList};
  std::vector<Entered> under_way_;
  std::map<std::uint32_t, unsigned>
      still_;  ///< how often a loop without accesses is to be looked at
  Accesses accesses_;
  std::vector<FindingView> findings_;
  Picoseconds slow_over_{100'000'000};
  struct Slowest {
    std::uint64_t ticks = 0;
    std::size_t finding = 0;
  };
  std::map<unsigned, Slowest> slowest_;  ///< by vector
  bool follows_ = false;                 ///< the machine follows values
  /// What has been found of them, by what and where: a line of a file, or an address.
  std::map<std::pair<machine::ValueFault::Kind, std::pair<std::string, std::uint32_t>>, std::size_t>
      values_;
  std::set<unsigned> unrestored_;             ///< vectors that have been told of
  std::map<std::string, std::size_t> known_;  ///< by what makes them the same
  std::string ended_by_;
};

}  // namespace lucid

#endif  // LUCID_SESSION_CHECKS_H
