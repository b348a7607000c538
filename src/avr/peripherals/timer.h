// SPDX-License-Identifier: MIT
// An 8- or 16-bit timer ("8-bit Timer/Counter0 with PWM", "16-bit Timer/Counter1 with PWM", "8-bit
// Timer/Counter2 with PWM and Asynchronous Operation").
// Modelled: all waveform modes, the shared prescalers with their reset and hold, compare outputs on
// pins, force compare, buffered compare registers with their moments of update, compare, overflow
// and capture flags and interrupts, 16-bit access through TEMP, a match blocked by a write to TCNT,
// input capture by pin or comparator with noise canceller, the external clock, Timer2 on a 32.768
// kHz crystal with its latches (asynchronous.cpp). Timer 0 of older and small parts, too, with one
// TCCR0 or a TIMSK that all timers share. Edges at Tn and ICPn come through the synchroniser in
// three cycles (the manual: 2.5 to 3.5).
//
// The counter is lazy: worked out when it is looked at. Counting is a walk from one value that
// matters (a compare value, TOP, BOTTOM) to the next; what happens there happens when the counter
// leaves it. The next moment at which anything can be seen from outside is in the event queue.
#ifndef LUCID_AVR_PERIPHERALS_TIMER_H
#define LUCID_AVR_PERIPHERALS_TIMER_H

#include "avr/devices/device.h"
#include "avr/peripherals/peripheral.h"

namespace lucid::avr {

/// Of ASSR: Timer2 counts the crystal.
constexpr u8 kAs2 = 0x20;
/// Registers of Timer2 that are latched then.
constexpr unsigned kLatches = 5;

class Timer final : public Peripheral {
 public:
  struct Pins {
    std::array<Pin, 3> compare;
    Pin capture, clock;
    std::array<bool, 3> second{};  ///< another timer has the pin, too
  };
  /// Its moments are in ChipInfo::moments from `first_moment` on.
  Timer(unsigned number, unsigned bits, const Pins& pins, const Names& names, u64 clock_hz,
        unsigned index, unsigned slot, unsigned first_moment);
  [[nodiscard]] std::vector<std::string> moments() const;

  [[nodiscard]] std::vector<u16> addresses() const override;
  u8 read(const Bus& bus, u16 address, u64 t) const override;
  void write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const override;
  bool assume(const Bus& bus, u16 address, u8 value, u64 t) const override;
  [[nodiscard]] u8 peek(const World& world, u16 address, u64 t) const override;
  [[nodiscard]] u64 steady_until(const World& world, u16 address, u64 t) const override;
  [[nodiscard]] bool loading_acts(u16 address) const override {
    return wide_ &&
           (address == tcnt_ || address == tcnt_ + 1 || address == icr_ || address == icr_ + 1);
  }
  void on_event(const Bus& bus, unsigned slot, u64 due) const override;
  void on_vector(const Bus& bus, unsigned vector) const override;
  [[nodiscard]] u64 again(const World& world, unsigned vector, u64 from, u64 to) const override;
  bool bring_forward(const Bus& bus, unsigned vector, std::optional<u8> byte, u64 t) const override;
  [[nodiscard]] std::vector<Pin> listens() const override { return {pins_.capture, pins_.clock}; }
  void on_pin(const Bus& bus, Pin pin, bool level, u64 t) const override;
  [[nodiscard]] std::vector<PinUse> uses(const World& world) const override;
  [[nodiscard]] bool runs_asleep(const World& world, unsigned sm) const override;
  void on_sleep(const Bus& bus, unsigned sm, u64 t) const override;
  void tell(const Bus& bus, u64 from, u64 to) const override;
  void stood_still(const Bus& bus, u64 cycles) const override;
  void on_clock(const Bus& bus, bool changed, u64 t) const override;
  void on_power(const Bus& bus, bool on, u64 t) const override {
    on ? schedule(bus) : catch_up(bus, t);
  }
  void reset(const Bus& bus) const override;
  [[nodiscard]] std::vector<unsigned> vectors() const override;
  [[nodiscard]] std::vector<unsigned> slots() const override {
    return assr_ != 0 ? std::vector<unsigned>{slot_, slot_ + 1} : std::vector<unsigned>{slot_};
  }
  /// Which registers wait for the crystal: bits of ASSR.
  [[nodiscard]] u8 waiting(const World& world) const { return world.timers[index_].waiting; }
  /// What waits is taken over at once.
  void latch_all(const Bus& bus, u64 t) const { latch(bus, kNever, t); }

  /// 0 for all timers that share a prescaler, 1 for Timer2.
  [[nodiscard]] unsigned prescaler() const { return number_ == 2 ? 1 : 0; }
  /// Brings the counter, flags and outputs to tick `t`.
  void catch_up(const Bus& bus, u64 t) const;
  /// The comparator's output, with ACIC set, has moved.
  void on_comparator(const Bus& bus, bool level, u64 t) const;
  /// Works out the next event; to be called after catch_up and a change.
  void schedule(const Bus& bus) const;

 private:
  enum class Shape : u8 { kNormal, kClear, kFast, kPhase };
  enum class Top : u8 { kMax, kFixed, kCompareA, kCapture };
  struct Mode {
    Shape shape;
    Top top;
    u16 fixed;         ///< TOP, for Top::kFixed
    bool load_at_top;  ///< phase-correct: compare registers are updated at TOP, else at BOTTOM
    bool reserved;
  };
  /// What the registers ask for at one moment.
  struct Plan {
    Mode mode;
    u16 max;
    u16 capture;                 ///< ICRn
    std::array<u16, 3> written;  ///< OCRnx
    std::array<u8, 3> outputs;   ///< COMnx, 0 where the pin is not the timer's
    u8 flags;                    ///< those that there are
    bool moves;                  ///< an output
  };
  static constexpr u8 kTov = 1, kOcfa = 2, kIcf = 0x20;
  static constexpr u64 kSynchroniser = 3;  ///< cycles from an edge at a pin to what it does

  [[nodiscard]] static unsigned lowest_bit(unsigned bits) {
    return static_cast<unsigned>(__builtin_ctz(bits));
  }
  [[nodiscard]] u8 in_register(unsigned flags) const;
  [[nodiscard]] u8 from_register(unsigned value) const;
  void tell_cleared(const Bus& bus, unsigned waiting) const;
  [[nodiscard]] std::string wide_name(u16 low) const;
  void keep_temp(const Bus& bus, u16 low, bool out) const;
  void judge_temp(const Bus& bus, u16 low, bool out, u8 high) const;
  [[nodiscard]] unsigned wgm(const World& world) const;
  /// Of TCCRnB of an 8-bit timer: all but force compare.
  [[nodiscard]] unsigned held_in_b() const { return older_ ? 0x7fU : 0x0fU; }
  [[nodiscard]] Mode mode(const World& world) const;
  [[nodiscard]] Plan plan(const World& world) const;
  [[nodiscard]] u16 word(const World& world, u16 low) const;
  [[nodiscard]] static u16 top(const TimerState& state, const Plan& plan);
  [[nodiscard]] static u64 edges_to_stop(const TimerState& state, const Plan& plan);
  static void move(TimerState& state, const Plan& plan, u64 edges);
  static void leave(TimerState& state, const Plan& plan);
  enum class Way : u8 { kUp, kDown, kTurns };
  static void match(TimerState& state, const Plan& plan, Way way);
  static void set_output(TimerState& state, const Plan& plan, unsigned channel, bool down);
  [[nodiscard]] static bool loads_at_bottom(const TimerState& state, const Plan& plan);
  [[nodiscard]] static bool goes_round(const TimerState& state, const Plan& plan, unsigned& end);
  [[nodiscard]] static unsigned within_reach(const TimerState& state, const Plan& plan,
                                             unsigned end);
  [[nodiscard]] static unsigned edges_to(const TimerState& state, unsigned flag, unsigned end);
  static void walk(TimerState& state, const Plan& plan, u64 edges);

  /// Ticks a count; 0 if the counter stands still or counts a pin.
  [[nodiscard]] u64 divider(const World& world) const;
  [[nodiscard]] bool counts_pin(const World& world) const;
  [[nodiscard]] bool crystal(const World& world) const;
  [[nodiscard]] u64 edge_index(const World& world, u64 t) const;
  /// The tick of an edge of the crystal, divided by `n`.
  [[nodiscard]] u64 crystal_tick(u64 origin, u64 index, u64 n) const;
  [[nodiscard]] unsigned latch_of(u16 address) const;
  void write_later(const Bus& bus, unsigned bit, u8 value, u64 t) const;
  void latch(const Bus& bus, u64 until, u64 t) const;
  void write_now(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const;
  [[nodiscard, gnu::cold]] u64 crystal_index(const World& world, u64 t) const;
  [[nodiscard]] u64 edges_between(const World& world, u64 from, u64 to) const;
  [[nodiscard]] u64 tick_of_edge(const World& world, u64 from, u64 edges) const;
  [[nodiscard]] TimerState state_at(const World& world, u64 t) const;
  void catch_up(const Bus& bus, const Plan& plan, u64 t) const;
  void schedule(const Bus& bus, const Plan& plan) const;
  void set_pin(const Bus& bus, unsigned channel, std::optional<bool> level, u64 t) const;
  /// What others see of a timer.
  struct Shown {
    u8 flags, outputs;
    explicit Shown(const TimerState& state) : flags(state.flags), outputs(state.outputs) {}
  };
  void show(const Bus& bus, const Plan& plan, Shown before, u64 t) const;
  void tell_passed(const Bus& bus, const Plan& plan, TimerState state, u64 edges,
                   std::optional<u64> at) const;
  void capture_edge(const Bus& bus, bool level, u64 t) const;
  void capture(const Bus& bus, u64 t) const;
  void pass_capture_edge(const Bus& bus, u64 t) const;
  void count_edge(const Bus& bus, u64 t) const;
  void refresh_requests(const Bus& bus) const;
  void write_word(const Bus& bus, u16 low_address, u8 low) const;
  void force(const Bus& bus, unsigned channels, u64 t) const;
  void say_what_is_missing(const Bus& bus) const;

  unsigned number_;
  bool wide_;
  Pins pins_;
  u64 clock_hz_;
  const std::array<u64, 8>* dividers_ = nullptr;  ///< by CS
  unsigned index_, slot_;
  u64 all_moments_ = 0;                ///< as bits
  std::array<unsigned, 6> moments_{};  ///< by flag bit of TIFR
  u16 tccra_, tccrb_, tccrc_, tcnt_, icr_, timsk_, tifr_, assr_, acsr_;
  std::array<u16, 3> ocr_;
  bool older_ = false;        ///< one register TCCRn
  bool usual_places_ = true;  ///< of the flags in TIFR and TIMSK
  std::array<u8, 6> places_{};
  std::array<unsigned, 6> vectors_;  ///< by flag bit of TIFR
  u8 all_flags_ = 0;
  u64 all_vectors_ = 0;  ///< of them, as bits
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_TIMER_H
