// SPDX-License-Identifier: MIT
// AvrMachine: a World with its device, and the engine that runs it.
//
// The engine is derived from the world and never copied: decoded entries, one per flash word, and
// one attribute byte per data address. Both are made when the machine first runs.
#ifndef LUCID_AVR_CHIP_AVR_MACHINE_H
#define LUCID_AVR_CHIP_AVR_MACHINE_H

#include <map>
#include <memory>
#include <vector>

#include "avr/chip/fabric.h"
#include "machine/machine.h"

namespace lucid::avr {

class AvrMachine final : public machine::Machine {
 public:
  AvrMachine(std::shared_ptr<const Fabric> fabric, const Chip::Options& options);
  AvrMachine(const AvrMachine& other);
  AvrMachine& operator=(const AvrMachine&) = delete;
  ~AvrMachine() override;

  [[nodiscard]] std::unique_ptr<machine::Machine> clone() const override;
  [[nodiscard]] const machine::Target& target() const override { return fabric_->target; }
  [[nodiscard]] const ChipInfo& info() const override { return fabric_->info; }

  machine::Stop run(const machine::RunRequest& request) override;
  void reset() override;
  Result<void> load(const Image& image) override;
  Result<void> set_breakpoint(std::uint32_t address, bool on) override;
  void pass(std::uint32_t address, const machine::Passing* passing) override;
  void allow_passes(std::uint32_t address, std::uint64_t times) override;
  machine::Passed take_passed(std::uint32_t address) override;
  void guard_stack(std::uint32_t begin, std::uint32_t end) override;
  Result<void> watch(Address address, std::uint8_t kinds) override;
  Result<void> listen(std::uint32_t kinds, machine::RecordSink* sink) override;
  void choose_moments(std::uint64_t places) override { outputs_.tap.choose_moments(places); }
  bool tell_calls(bool on) override;
  Result<void> count(bool on, bool calls) override;
  void count_apart(bool on) override;
  [[nodiscard]] bool is_counting() const override { return counter_ != nullptr; }
  [[nodiscard]] std::optional<machine::Counts> counts() const override;
  void check_unwritten(bool on) override;
  bool attend(machine::InterruptListener* listener) override {
    attendant_ = listener;
    return true;
  }
  bool follow_values(const std::optional<machine::ValueFollowing>& how) override;
  [[nodiscard]] std::optional<machine::Heap> heap() const override;
  void end_at_notes(std::uint8_t kinds) override { outputs_.ends_at = kinds; }

  [[nodiscard]] std::optional<std::uint8_t> peek(Address address) const override;
  [[nodiscard]] const std::uint8_t* plain_bytes(Address address, unsigned bytes) const override;
  [[nodiscard]] std::uint64_t register_value(unsigned index) const override;
  [[nodiscard]] std::uint32_t pc() const override { return world_.cpu.pc * 2; }
  [[nodiscard]] std::uint32_t sp() const override { return world_.cpu.sp; }
  [[nodiscard]] std::uint64_t ticks() const override { return world_.tick_at(world_.cpu.now); }
  [[nodiscard]] std::uint64_t cycles() const override { return world_.cpu.now; }
  [[nodiscard]] unsigned ticks_a_cycle() const override { return 1U << world_.clock.shift; }
  [[nodiscard]] std::uint64_t hash() const override;
  [[nodiscard]] bool interrupt_imminent() const override;
  [[nodiscard]] bool interrupts_off() const override { return (flags() & 0x80U) == 0; }
  [[nodiscard]] bool asleep() const override { return world_.cpu.asleep; }
  [[nodiscard]] std::optional<std::uint32_t> deepest_sp() const override;
  [[nodiscard]] std::unique_ptr<machine::Machine> at_deepest() const override;
  [[nodiscard]] std::uint64_t slept_ticks() const override { return slept_ticks_; }
  [[nodiscard]] std::uint64_t skipped_ticks() const override { return skipped_ticks_; }
  [[nodiscard]] std::vector<PinState> pins() const override;
  [[nodiscard]] std::vector<u32> latches() const override;
  [[nodiscard]] std::vector<machine::Wear> wear() const override;
  [[nodiscard]] machine::WatchdogMargin watchdog() const override;
  [[nodiscard]] std::vector<Address> register_bytes(unsigned index) const override;
  [[nodiscard]] std::string flag_letters() const override { return "ITHSVNZC"; }
  [[nodiscard]] std::uint8_t flags() const override { return world_.cpu.sreg; }

  bool poke(Address address, std::uint8_t value) override;
  bool store(Address address, std::uint8_t value) override;
  void set_register(unsigned index, std::uint64_t value) override;
  void set_pc(std::uint32_t address) override;
  Result<void> drive(const std::string& pin, std::optional<bool> level) override;
  [[nodiscard]] std::vector<PartState> parts() const override;
  Result<void> act(const std::string& part, const std::string& action,
                   const std::string& value) override;
  Result<void> apply(const std::string& pin, std::int32_t microvolts) override;
  Result<void> feed(const std::string& port, const std::string& bytes) override;
  Result<void> transfer(const TwoWireTransfer& transfer) override;
  Result<void> feed_frame(const std::string& port, const SerialFrame& frame) override;
  Raised raise(unsigned vector, std::optional<u8> byte) override;
  std::vector<SerialText> take_serial() override;
  std::vector<machine::Note> take_notes() override { return std::exchange(outputs_.notes, {}); }
  [[nodiscard]] bool assume(const machine::Machine& other) override;
  [[nodiscard]] std::size_t copy_bytes() const override {
    return sizeof *this + world_.data.size() + world_.eeprom.size() + unwritten_.size() +
           deepest_.stack.size() + breakpoints_.size() * sizeof(u32) + 2048;
  }
  [[nodiscard]] std::optional<std::uint8_t> wire_pin(const std::string& pin) const override;
  std::vector<machine::WireChange> take_offers() override {
    return std::exchange(outputs_.offers, {});
  }
  void receive(const machine::WireChange& change) override;
  [[nodiscard]] std::vector<std::string> companions() const override;
  [[nodiscard]] std::unique_ptr<machine::Machine> companion(const std::string& name) const override;
  const machine::Machine* hear(const std::string& companion,
                               const machine::Hearing& hearing) override;
  std::uint64_t hear_out(const std::string& companion) override;
  [[nodiscard]] const Image* companion_image(const std::string& name) const override;

 private:
  friend class Engine;
  friend class Shadow;
  void power_on(const std::array<u8, 3>& fuses);
  void note_oscillator();
  /// Refuses what names something on a companion: `panel.PD2`, or a part there.
  [[nodiscard]] Result<void> on_this_chip(const std::string& name) const;
  void renew_attributes();
  void reset_with(u8 cause);
  void tell_moments(u64 from);
  [[nodiscard]] u64 seen_until(const Peripheral& p) const;
  /// In mode `sm` of SMCR; stops the clocks that it stops.
  void fall_asleep(unsigned sm);
  void wake_up();
  [[nodiscard]] unsigned sleep_mode() const { return world_.data[fabric_->smcr] >> 1 & 7U; }
  [[nodiscard]] u64 wake_up_cycles() const;
  [[nodiscard]] u32 reset_word() const;
  [[nodiscard]] u32 vector_word(unsigned vector) const;
  void set_by_hand(Pin pin, const machine::OutsideLevel& level);
  Result<const Usart*> find_usart(const std::string& name) const;

  std::shared_ptr<const Fabric> fabric_;
  std::array<u8, 3> fuses_;  ///< at power-on
  World world_;
  u64 slept_ticks_ = 0;         ///< beside the world, too
  u64 skipped_ticks_ = 0;       ///< the same
  u32 lowest_sp_ = UINT32_MAX;  ///< timeline: while the stack was in use
  /// As it was when the stack was deepest.
  struct Deepest {
    u32 pc = 0;                        ///< word address of the instruction that did it
    bool entered = false;              ///< it was the entry of an interrupt: `pc` is its vector
    std::vector<u8> registers, stack;  ///< from above the stack pointer to the end of RAM
  } deepest_;
  [[gnu::cold]] void note_deepest(u32 sp, u32 pc, bool entered);
  u32 guard_begin_ = 0, guard_end_ = 0;
  std::vector<u32> breakpoints_;  ///< word addresses
  struct Condition {
    machine::Passing passing;
    // Counted by translated code, at these addresses.
    u64 unheld = 0;
    u64 left = 0;     ///< passes that it may still take
    u64 allowed = 0;  ///< of how many
  };
  std::map<u32, Condition> conditions_;  ///< by word address; not copied
  std::map<Address, u8> watched_;        ///< by machine::kOnRead and so on
  std::vector<u8> unwritten_;            ///< timeline: 1 for RAM that nothing has written yet
  bool check_unwritten_ = false;
  bool tells_calls_ = false;
  u8 translate_after_;  ///< Chip::Options
  /// Followed values are followed instruction by instruction.
  [[nodiscard]] u8 translate_after() const { return shadow_ != nullptr ? 0 : translate_after_; }
  Outputs outputs_;
  machine::InterruptListener* attendant_ = nullptr;  ///< not copied
  std::unique_ptr<class Counter> counter_;           ///< while it counts; not copied
  std::unique_ptr<class Shadow> shadow_;             ///< timeline: while values are followed
  /// What had been counted when counting apart began.
  std::unique_ptr<class Counter> apart_;
  std::shared_ptr<class CodeStore> code_store_;  ///< with all copies
  std::unique_ptr<class Engine> engine_;
  std::unique_ptr<machine::Companions> companions_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_CHIP_AVR_MACHINE_H
