// SPDX-License-Identifier: MIT
// Race search: a function is run again and again, each time with an interrupt before another one
// of its instructions, and what it leaves behind is compared with the orders without a race.
#ifndef LUCID_SESSION_RACE_H
#define LUCID_SESSION_RACE_H

#include <array>
#include <functional>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "lucid/race.h"
#include "session/accesses.h"

namespace lucid {

class Session::Core::Race {
  using Machine = machine::Machine;
  using Finding = RaceView::Finding;

 public:
  Race(Core& core, const RaceSpec& spec) : core_(core), spec_(spec) {}

  Result<RaceView> search();

  /// Not a function, but the instructions from an object's first access to behind its last.
  struct Stretch {
    std::uint32_t begin = 0, behind = 0;
    Accesses::Open open;
  };
  struct Found {
    Finding finding;
    Raced raced;
  };
  /// From a machine that stands at its begin.
  Result<RaceView> search(const Stretch& stretch, const Machine& at_begin);
  [[nodiscard]] std::vector<Found>& found() { return found_; }

  /// Does something while the program runs on, with nothing set and nobody told; then the session
  /// is where it was. `action` gets the faults that end runs otherwise.
  using Faults = std::vector<machine::Fault>;
  static Result<void> away(Core& core, const std::function<void(const Faults&)>& action);
  /// On to one of some places, with what is to be done by then. False: it is not come to.
  /// REQUIRES: to be away.
  static bool come_to(Core& core, const std::vector<std::uint32_t>& places, std::uint64_t until);

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
  /// Bytes that are compared.
  struct Span {
    std::optional<unsigned> index;  ///< of a register
    std::uint32_t begin = 0, count = 1;
  };

  [[nodiscard]] tl::unexpected<Error> interrupted() const;
  Result<void> find_names();
  /// A span, or what a run may take at all (Session::set_limit()).
  [[nodiscard]] Picoseconds at_most(Picoseconds span) const;
  /// On to the function's entry, on a copy.
  Result<void> reach();
  Result<void> prepare();
  /// All placements, at all values.
  void try_all();
  [[nodiscard]] frames::Scope scope(const Machine& machine) const;
  /// Static data, the callers' frames, the registers that a function keeps or returns in, and
  /// what is latched for pins. What is below the stack pointer, and all that counts time, is not.
  void choose_spans();
  [[nodiscard]] std::vector<std::uint8_t> bytes_of(const Machine& machine) const;
  /// Until the function has returned, and who has interrupted it.
  std::unique_ptr<Ending> run_to_end(Machine& machine);
  /// REQUIRES: the function has returned.
  std::unique_ptr<Ending> ended(const Machine& machine) const;
  /// The function once more, from its entry to its return, with the interrupts at each boundary.
  /// False: it does not return, or somebody asked for a pause before there was anything to compare.
  bool walk();
  /// Where the function has just returned, whatever interrupt may come there.
  std::unique_ptr<Machine> first_return(const Machine& from) const;
  /// With the interrupt here, where no instruction of the function is under way. Null: it cannot
  /// come here.
  std::unique_ptr<Ending> order(const Machine& here, std::size_t v);
  /// Raised here, and entered. False: it cannot come here.
  bool enter(Machine& machine, std::size_t v) const;
  /// Two interrupts, one after the other, each where no instruction of the function is under way:
  /// how many of them before the entry. Null: they cannot come so.
  std::unique_ptr<Ending> order(const Machine& at_entry, const Machine& at_end,
                                const std::array<std::size_t, 2>& which, unsigned before);
  /// Both interrupts: the first at each boundary, the second at each one behind it.
  bool walk_pairs();
  void note_walk(std::uint64_t boundaries);
  static bool is_broken(const std::unique_ptr<Ending>& order);
  void place(const Machine& here, std::size_t v);
  /// One more placement; now and then somebody is told how far it is.
  void count_placement(Vector& vector, const Machine& here);
  using Orders = std::vector<const Ending*>;
  /// An interrupt that is raised before an instruction.
  [[nodiscard]] static Raced::Raise raise_at(const Machine& here, unsigned vector);
  /// `orders` without those that cannot be; `all` of them can. The last of `raises` is at `here`.
  /// Of a stretch that reads an object: what has been read, if that is as in neither order.
  bool tell_read(const Orders& orders, std::vector<Finding::Object>& objects) const;
  void judge(const Ending& end, const Orders& orders, bool all, const Machine& here,
             Finding finding, std::vector<Raced::Raise> raises);
  /// What differs, object by object.
  Finding::Kind compare(const Ending& end, const Orders& orders,
                        std::vector<Finding::Object>& objects) const;
  static constexpr const char* kReturns = "returns";
  [[nodiscard]] std::string name_of(const Span& span, std::uint32_t offset) const;
  [[nodiscard]] std::string value_of(const std::string& name, const Machine& machine,
                                     const std::string& otherwise) const;
  /// Whole numbers that a handler has changed, but not in all of their bytes, and which values lead
  /// to that.
  std::vector<Variant> variants();
  /// Those that the function reads or writes.
  void leave_touched(std::vector<Variant>& variants) const;
  void numbers(const std::string& name, unsigned type_index, std::uint32_t address, unsigned depth,
               std::set<std::uint32_t>& seen, std::vector<Variant>& out) const;

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
  const Stretch* stretch_ = nullptr;  ///< null: a function
  std::size_t passed_ = 0;            ///< of its accesses, before the placement
};

}  // namespace lucid

#endif  // LUCID_SESSION_RACE_H
