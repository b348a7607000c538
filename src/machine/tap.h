// SPDX-License-Identifier: MIT
// Tap: what happens in a machine, told as plain numbers from where it happens, without ending the
// run. It is beside the world: nothing in it is hashed or copied.
#ifndef LUCID_MACHINE_TAP_H
#define LUCID_MACHINE_TAP_H

#include <algorithm>
#include <cstddef>
#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "lucid/chip.h"

namespace lucid::machine {

/// What can happen, as bit numbers of RunRequest::events and of Machine::listen.
enum class EventKind : std::uint8_t {
  kInterrupt,    ///< entered; `number` is the vector
  kReturn,       ///< a return from interrupt has executed; `number` is its vector, 0: not known
  kSleep,        ///< the processor has stopped
  kWake,         ///< and goes on
  kByteOut,      ///< has left a serial port
  kByteIn,       ///< has arrived
  kEepromWrite,  ///< has begun: address `number`, `value`
  kEdge,         ///< a pin is now `value`
  kWire,         ///< what the chip does to a wire has changed
  kReset,        ///< by the chip itself; `number` is its cause, as the status register shows it
  kRead,         ///< of a byte that is watched with kTapRead: address `number`, `value`; only told
  kWrite,        ///< the same for a store; only told
  // Only told, too:
  kPin,       ///< a pin is now `value`, a PinLevel
  kIo,        ///< a byte watched with kTapChange is now `value`; `number` is its address in data
              ///< space, or in EEPROM with kNotData
  kVoltage,   ///< at a pin, in microvolts, as a signed number
  kCall,      ///< of the function at byte address `number`; `value` is the stack pointer behind it
  kLeave,     ///< by a return, but not from an interrupt; `value` is the stack pointer behind it
  kQuantity,  ///< of a part, Part::quantities(): part * 256 + place in them
  kBusIn,     ///< a byte has arrived over a bus: `number` is its place in ChipInfo::buses
  kBusOut,    ///< or is sent
  kLook,      ///< at a companion, the `number`th: Hearing::look
  kMoment,    ///< `number` is its place in ChipInfo::moments; one of a number comes behind another
};
constexpr std::uint32_t kNotData = 0x8000'0000;
/// What a wire is at, all together.
enum PinLevel : std::uint8_t { kLow, kHigh, kFloats, kFought };
[[nodiscard]] PinLevel level_of(const PinState& pin);
constexpr std::uint32_t bit(EventKind kind) { return 1U << static_cast<unsigned>(kind); }

/// For one who waits for it.
struct Event {
  EventKind kind = EventKind::kInterrupt;
  unsigned number = 0, value = 0;  ///< of a byte: `number` is what was sent
  std::string name;                ///< of the pin or the serial port
};

/// For one who listens: a byte's `number` is its port's place in ChipInfo::serial_ports, an edge's
/// is its pin's in WireChange.
struct Record {
  std::uint64_t tick = 0;  ///< of the oscillator
  EventKind kind = EventKind::kInterrupt;
  std::uint32_t number = 0, value = 0;
  std::uint32_t pc = 0;  ///< byte address of the last instruction that began before it
  bool late = false;     ///< … before it is told, which is later than it happened
};

/// What a machine has to say, once: of something that is not modelled, or misused.
struct Note {
  std::string text;
  std::optional<std::uint32_t> pc;  ///< of the instruction that did it, if one did
  enum class Kind : std::uint8_t {
    kInformation,
    kMisuse,      ///< the chip's manual says not to do so
    kContention,  ///< two drive a pin to different levels
  } kind = Kind::kInformation;
  std::uint64_t tick = 0;  ///< when
};

class RecordSink {
 public:
  virtual ~RecordSink() = default;
  /// In the order in which they happened, but for moments, which may be found out later. Called
  /// while the machine runs: it must not be touched.
  virtual void take(const Record* records, std::size_t count) = 0;
};

/// The ring between a machine and who listens.
class Tap {
 public:
  Tap() = default;
  Tap(const Tap& /*other*/) {}  // a copy of a machine is not listened to
  Tap& operator=(const Tap& /*other*/) { return *this; }
  ~Tap() = default;

  void listen(std::uint32_t kinds, RecordSink* sink) {
    flush();
    kinds_ = sink != nullptr ? kinds : 0;
    sink_ = sink;
    moments_ = ~std::uint64_t{0};
    told_ = 0;
    pins_.clear();
    ports_.clear();
    ring_.reserve(kinds_ != 0 ? kMost : 0);
  }
  /// A pin's PinLevel, where somebody wants it: told if it is another one than before. Pins begin
  /// as no level at all.
  void put_pin(std::uint64_t tick, std::uint32_t pin, std::uint8_t level, std::uint32_t pc,
               bool late) {
    if (pin >= pins_.size()) pins_.resize(pin + 1, kNoLevel);
    if (std::exchange(pins_[pin], level) != level)
      put({tick, EventKind::kPin, pin, level, pc, late});
  }
  /// Which of a port's eight pins are not as they were when this was last asked; all, the first
  /// time.
  [[nodiscard]] unsigned changed_pins(std::size_t port, unsigned level, unsigned floats) {
    constexpr unsigned kNever = ~0U;
    if (port >= ports_.size()) ports_.resize(port + 1, kNever);
    const unsigned before = std::exchange(ports_[port], level | floats << 8);
    return before == kNever ? 0xffU : (before ^ level) | (before >> 8 ^ floats);
  }
  [[nodiscard]] bool wants(EventKind kind) const { return (kinds_ & bit(kind)) != 0; }
  /// Of kMoment only those at these places in ChipInfo::moments, a bit each, until it is listened
  /// anew.
  void choose_moments(std::uint64_t places) { moments_ = places; }
  [[nodiscard]] bool wants_moments(std::uint64_t places) const {
    return wants(EventKind::kMoment) && (moments_ & places) != 0;
  }
  /// Moments before a tick have been told, those too that are found out again later.
  void moments_told(std::uint64_t before) { told_ = before; }
  /// From a tick on they have not, if another future begins there.
  void begin_at(std::uint64_t tick) { told_ = std::min(told_, tick); }
  void put_moment(const Record& record) {
    if (record.tick >= told_) put(record);
  }
  [[nodiscard]] bool wants_any() const { return kinds_ != 0; }
  void put(const Record& record) {
    ring_.push_back(record);
    if (ring_.size() == kMost) flush();
  }
  void flush() {
    if (ring_.empty()) return;
    sink_->take(ring_.data(), ring_.size());
    ring_.clear();
  }

 private:
  static constexpr std::size_t kMost = 1024;
  std::uint32_t kinds_ = 0;
  std::uint64_t moments_ = 0;
  std::uint64_t told_ = 0;
  RecordSink* sink_ = nullptr;
  std::vector<Record> ring_;
  static constexpr std::uint8_t kNoLevel = 0xff;
  std::vector<std::uint8_t> pins_;  ///< as last told
  std::vector<unsigned> ports_;     ///< as last seen
};

}  // namespace lucid::machine

#endif  // LUCID_MACHINE_TAP_H
