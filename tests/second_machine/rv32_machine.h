// SPDX-License-Identifier: MIT
// Second32: a made-up microcontroller around RV32IM, to keep the layers above free of the AVR. 256
// KiB of flash at 0, 32 KiB of RAM at 0x20000000, in one address space; eight pins, a timer and a
// serial port at 0x40000000; interrupts as the machine level of RISC-V has them, through a table of
// jumps or at one place.
#ifndef LUCID_TESTS_SECOND_MACHINE_RV32_MACHINE_H
#define LUCID_TESTS_SECOND_MACHINE_RV32_MACHINE_H

#include <array>
#include <map>
#include <memory>
#include <set>

#include "machine/family.h"
#include "machine/machine.h"
#include "machine/outside.h"
#include "machine/paged_memory.h"
#include "target.h"

namespace lucid::rv32 {

constexpr u32 kFlashBytes = 0x40000, kRamBegin = 0x20000000, kRamBytes = 0x8000;
constexpr u32 kIoBegin = 0x40000000, kIoEnd = 0x40000030;
constexpr u64 kNever = UINT64_MAX;
constexpr unsigned kPinCount = 8;

// Registers of the peripherals, a word each.
enum Io : u32 {
  kPinDirection = 0,  ///< 1: output
  kPinOut,
  kPinIn,
  kPinRising,   ///< a rising edge is wanted
  kPinPending,  ///< and has come; a 1 clears it
  kTimerCount,
  kTimerCompare,  ///< the interrupt is wanted from this count on
  kTimerControl,  ///< bit 0: interrupt
  kSerialData,
  kSerialStatus,   ///< bit 0: a byte is there; bit 1: one is being sent
  kSerialDivider,  ///< cycles a bit
  kSerialControl,  ///< bit 0: interrupt for a byte that is there
};
constexpr u32 io_address(u32 number) { return kIoBegin + 4 * number; }

enum Vector : unsigned { kReset, kTimer, kPins, kSerial, kVectors };

/// Everything that it is at a moment.
struct World {
  std::array<u32, 32> x{};
  u32 pc = 0;
  u32 mstatus = 0, mie = 0, mtvec = 0, mscratch = 0, mepc = 0, mcause = 0, mtval = 0;
  u64 now = 0;
  bool asleep = false;
  u32 direction = 0, out = 0, rising = 0, pending = 0;
  u32 driven = 0, driven_high = 0;  ///< from outside
  u32 fought = 0;                   ///< two drive it differently
  std::array<machine::OutsideLevel, kPinCount> by_hand{};
  machine::OutsideState outside;           ///< the parts
  std::vector<u64> wakes;                  ///< by part
  u32 wire_low = 0, wire_high = 0;         ///< by other chips
  u32 offers_low = 0, offers_high = 0;     ///< to them
  std::vector<machine::WireChange> inbox;  ///< of a companion, by time
  machine::GroupState group;               ///< of a chip with companions
  u64 sync_at = kNever;                    ///< depends on how far they are ahead: not hashed
  u32 seen = 0;                            ///< levels, by the edge detector
  u32 compare = 0, timer_control = 0;
  u32 divider = 1, serial_control = 0;
  u64 sent_at = kNever;  ///< the byte that is being sent is out
  u8 sending = 0, received = 0;
  bool has_received = false;
  u64 arrives_at = kNever;  ///< the first of `arriving`
  std::string arriving;
  std::vector<u8> ram;
  machine::PagedMemory flash{kFlashBytes, 0xff};

  template <class Visit>
  void fields(Visit& visit) const {
    for (const u32 value : x) visit(value);
    for (const auto& hand : by_hand) hand.fields(visit);
    outside.fields(visit);
    for (const u64 at : wakes) visit(at);
    for (const auto& change : inbox) change.fields(visit);
    visit(pc, mstatus, mie, mtvec, mscratch, mepc, mcause, mtval, now, asleep, direction, out,
          rising, pending, driven, driven_high, fought, wire_low, wire_high, offers_low,
          offers_high, seen, compare, timer_control, divider, serial_control, sent_at, sending,
          received, has_received, arrives_at);
  }
};

class Rv32Machine final : public machine::Machine {
 public:
  /// Errors: see Chip::make.
  static Result<std::unique_ptr<Rv32Machine>> make(const Chip::Options& options,
                                                   machine::Family::Joined joined);
  struct Board;  ///< what is constant, shared by all copies
  explicit Rv32Machine(std::shared_ptr<const Board> board);
  Rv32Machine(const Rv32Machine& other) = default;
  [[nodiscard]] std::unique_ptr<machine::Machine> clone() const override;
  [[nodiscard]] const machine::Target& target() const override { return target_; }
  [[nodiscard]] const ChipInfo& info() const override;

  machine::Stop run(const machine::RunRequest& request) override;
  void reset() override;
  Result<void> load(const Image& image) override;
  Result<void> set_breakpoint(u32 address, bool on) override;
  void guard_stack(u32 begin, u32 end) override;
  Result<void> watch(Address address, std::uint8_t kinds) override;
  Result<void> listen(u32 kinds, machine::RecordSink* sink) override {
    tap_.listen(kinds, sink);
    return {};
  }

  [[nodiscard]] std::optional<u8> peek(Address address) const override;
  [[nodiscard]] const u8* plain_bytes(Address address, unsigned bytes) const override;
  [[nodiscard]] u64 register_value(unsigned index) const override;
  [[nodiscard]] u32 pc() const override { return world_.pc; }
  [[nodiscard]] u32 sp() const override { return world_.x[kSp]; }
  [[nodiscard]] u64 ticks() const override { return world_.now; }
  [[nodiscard]] u64 hash() const override;
  [[nodiscard]] bool interrupt_imminent() const override { return wanted() != kReset; }
  [[nodiscard]] bool interrupts_off() const override { return (world_.mstatus & kMieBit) == 0; }
  [[nodiscard]] bool asleep() const override { return world_.asleep; }
  [[nodiscard]] std::vector<PinState> pins() const override;

  [[nodiscard]] bool assume(const machine::Machine& other) override;
  [[nodiscard]] std::optional<u8> wire_pin(const std::string& pin) const override;
  std::vector<machine::WireChange> take_offers() override { return std::exchange(offers_, {}); }
  void receive(const machine::WireChange& change) override { world_.inbox.push_back(change); }
  [[nodiscard]] std::vector<std::string> companions() const override;
  [[nodiscard]] std::unique_ptr<machine::Machine> companion(const std::string& name) const override;
  const machine::Machine* hear(const std::string& companion,
                               const machine::Hearing& hearing) override;
  std::uint64_t hear_out(const std::string& companion) override;
  [[nodiscard]] const Image* companion_image(const std::string& name) const override;

  bool poke(Address address, u8 value) override;
  bool store(Address address, u8 value) override;
  void set_register(unsigned index, u64 value) override;
  void set_pc(u32 address) override { world_.pc = address; }
  Result<void> drive(const std::string& pin, std::optional<bool> level) override;
  Result<void> act(const std::string& part, const std::string& action,
                   const std::string& value) override;
  [[nodiscard]] std::vector<PartState> parts() const override;
  Result<void> feed(const std::string& port, const std::string& bytes) override;
  std::vector<SerialText> take_serial() override;
  std::vector<machine::Note> take_notes() override { return std::exchange(notes_, {}); }

 private:
  friend class Rv32Terminals;
  friend class Rv32Host;
  void offer();
  [[nodiscard]] machine::Companions& runners() const;
  void execute(const Decoded& d);
  void branch(bool taken, const Decoded& d, u32 next);
  void control(const Decoded& d);
  [[nodiscard]] u32 load(u32 address, unsigned bytes);
  void store(u32 address, unsigned bytes, u32 value);
  [[nodiscard]] u32 io(u32 number) const;
  [[nodiscard]] u32 io_read(u32 number);
  void io_write(u32 number, u32 value);
  [[nodiscard]] u32 csr_value(u32 number) const;
  [[nodiscard]] u32 levels() const;
  void settle_pins();
  void do_events();
  [[nodiscard]] u64 next_event() const;
  [[nodiscard]] unsigned wanted() const;
  void enter(unsigned vector);
  bool sleep(const machine::RunRequest& request);
  void happened(machine::EventKind kind, unsigned number, unsigned value, std::string name = {});
  void note_access(u32 address, bool write, u8 before, u8 after);
  void fault(machine::Fault fault, u32 address);

  Target target_;
  std::shared_ptr<const Board> board_;
  World world_;
  // Beside the world.
  std::set<u32> breakpoints_;
  std::map<u32, u8> watched_;
  u32 guard_begin_ = 0, guard_end_ = 0;
  std::vector<SerialText> serial_;
  std::vector<machine::Note> notes_;
  std::string failure_;
  machine::Tap tap_;
  std::vector<machine::WireChange> offers_;
  /// Derived, made when first asked for, never copied.
  struct Runners {
    std::unique_ptr<machine::Companions> made;
    Runners() = default;
    ~Runners() = default;
    Runners(const Runners& /*other*/) {}
    Runners& operator=(const Runners& /*other*/) { return *this; }
  };
  mutable Runners runners_;
  machine::Stop stop_;  ///< of the instruction under way
  u32 wanted_events_ = 0;
};

}  // namespace lucid::rv32

#endif  // LUCID_TESTS_SECOND_MACHINE_RV32_MACHINE_H
