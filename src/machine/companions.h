// SPDX-License-Identifier: MIT
// Companions: further chips with firmware of their own, of any family, joined to a chip by wires,
// in lock-step.
//
// The chip itself runs freely. What a companion will do to a wire next is found out by running it
// ahead; that moment is an event of the chip. What the chip does to a wire in between makes the
// companion begin again from where it surely was, its base, with the change in its inbox. So each
// change is seen by all others at its own time (rounded up to their clock), and nothing depends on
// how far anybody ran ahead or where a run was interrupted.
//
// A base is a value in the chip's world: copies of the chip share it. The runners here are derived.
#ifndef LUCID_MACHINE_COMPANIONS_H
#define LUCID_MACHINE_COMPANIONS_H

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lucid/image.h"
#include "machine/machine.h"
#include "machine/wires.h"

namespace lucid::machine {

/// The chips beside one and the wires among all of them: constant, shared by its copies.
struct Group {
  struct Companion {
    std::string name;
    std::shared_ptr<const Machine> at_power_on;
    Image image;
  };
  /// A pin on a wire: of this chip, 0, or of a companion, from 1 on.
  struct Place {
    unsigned chip = 0;
    std::string pin;
    std::uint8_t number = 0;  ///< the family's; set once its machine is made
  };
  std::vector<Companion> companions;
  std::vector<std::vector<Place>> wires;
  Picoseconds ahead;  ///< how far they run at most; 0: as it suits

  [[nodiscard]] bool empty() const { return companions.empty() && wires.empty(); }
  /// Wires that share a pin are one.
  void join(std::vector<Place> places);
  /// This chip's pins that have a wire to a chip.
  [[nodiscard]] std::vector<std::string> pins_to(unsigned chip) const;
  /// The pins of a chip that have wires.
  [[nodiscard]] std::vector<std::string> pins_of(unsigned chip) const;
};

/// The chip that companions run along with, at one moment.
class Host {
 public:
  virtual ~Host() = default;
  virtual GroupState& group() = 0;
  [[nodiscard]] virtual std::uint64_t tick() const = 0;
  /// What this chip has done to its wires since it was last asked for.
  virtual std::vector<WireChange>& offers() = 0;
  /// What others do to the wire of a pin.
  virtual void join(std::uint8_t pin, std::uint8_t offer) = 0;
  virtual void say(const std::string& port, const std::string& bytes) = 0;
  virtual void note(const std::string& text) = 0;
  /// Companions::sync is due at a tick.
  virtual void sync_at(std::uint64_t tick) = 0;
};

/// The last tick of another clock at which nothing can happen any more to a chip there, by what a
/// chip does behind a tick of its own.
[[nodiscard]] std::uint64_t sure_tick(std::uint64_t tick, std::uint64_t hz, std::uint64_t their_hz);

class Companions {
 public:
  /// `hz`: of the chip itself. REQUIRES: `group` outlives it.
  Companions(const Group& group, std::uint64_t hz);
  ~Companions();
  Companions(const Companions&) = delete;
  Companions& operator=(const Companions&) = delete;

  void power_on(Host& host);
  /// The chip has become another of its moments.
  void forget();
  /// Delivers what is due by now in either direction, looks ahead again.
  void sync(Host& host);
  /// Takes what they have said up to now, but for the last few cycles.
  void catch_up(Host& host);
  /// Of all companions at a tick of the chip's.
  [[nodiscard]] std::uint64_t hash(const GroupState& group, std::uint64_t tick);
  /// A companion at a tick of the chip's. Good until the next call.
  [[nodiscard]] const Machine& as_now(const GroupState& group, std::uint64_t tick, unsigned which);
  [[nodiscard]] std::string describe(const GroupState& group, std::uint64_t tick, unsigned which);
  /// Machine::hear and hear_out.
  const Machine& hear(const GroupState& group, unsigned which, const Hearing& hearing);
  std::uint64_t hear_out(const GroupState& group, std::uint64_t tick, unsigned which);
  [[nodiscard]] std::optional<unsigned> find(const std::string& name) const;

 private:
  /// What a companion has done since its base is told when it has surely done it.
  class Ear final : public RecordSink {
   public:
    explicit Ear(const Hearing& hearing) : hearing_(hearing) {}
    void listen_to(Machine& machine);
    void leave(Machine& machine) const;
    /// The machine has come somewhere.
    void stand(Machine& machine);
    /// A copy of it is not listened to.
    void let_go(Machine& copy) const;
    void take(const Record* records, std::size_t count) override;
    void tell(std::uint64_t until);

   private:
    Hearing hearing_;
    std::vector<Record> records_;
  };
  struct Runner {
    std::unique_ptr<Machine> sure;  ///< at this base, or about to make the next one
    std::shared_ptr<const Machine> sure_at;
    std::unique_ptr<Ear> ear;        ///< on `sure`, if somebody listens
    std::unique_ptr<Machine> ahead;  ///< beyond it, if nothing reaches it meanwhile
    bool ahead_holds = false;
    bool stopped = false;           ///< by a fault
    std::unique_ptr<Machine> seen;  ///< by as_now(), from this base
    std::shared_ptr<const Machine> seen_from;
    bool seen_stopped = false;       ///< by a fault
    std::uint64_t seen_at = 0;       ///< picoseconds
    std::vector<WireChange> offers;  ///< of `ahead`, not yet delivered
  };
  struct Next {
    std::uint64_t time;  ///< picoseconds
    unsigned which;
    bool offered;
  };
  Next next_offer(const GroupState& group, std::uint64_t horizon);
  [[nodiscard]] std::uint64_t hz(unsigned chip) const;
  Machine& stand_at_base(const GroupState& group, unsigned which);
  void look_ahead(const GroupState& group, unsigned which, std::uint64_t until);
  bool run_on(Host& host, unsigned which, std::uint64_t until, std::uint64_t at_most);
  void make_base(GroupState& group, unsigned which);
  void advance(Host& host, unsigned which, std::uint64_t until, std::uint64_t at_most);
  void say(Host& host, unsigned which);
  void deliver(Host& host, unsigned from, const WireChange& change, std::uint64_t time);
  void send(Host& host, unsigned which, WireChange change);

  const Group& group_;
  const std::uint64_t hz_;
  std::vector<Runner> runners_;
};

}  // namespace lucid::machine

#endif  // LUCID_MACHINE_COMPANIONS_H
