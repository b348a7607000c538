// SPDX-License-Identifier: MIT
// Which pin carries which function, family by family. Source: the data sheets' chapters "Pin
// Configurations" and "Alternate Port Functions"; boot sections: "Memory Programming".
#include "avr/devices/device.h"
#include "base/text.h"

namespace lucid::avr {
namespace {

// Legend: number, bits, OCnA OCnB OCnC, ICPn, Tn.
constexpr TimerPins kTimers28[] = {
    {0, 8, "D6 D5", "-", "D4"}, {1, 16, "B1 B2", "B0", "D5"}, {2, 8, "B3 D3", "-", "-"}};
constexpr TimerPins kTimers40[] = {{0, 8, "B3 B4", "-", "B0"},
                                   {1, 16, "D5 D4", "D6", "B1"},
                                   {2, 8, "D7 D6", "-", "-"},
                                   {3, 16, "B6 B7", "B5", "D0"}};
constexpr TimerPins kTimers100[] = {
    {0, 8, "B7 G5", "-", "D7"},      {1, 16, "B5 B6 B7", "D4", "D6"},
    {2, 8, "B4 H6", "-", "-"},       {3, 16, "E3 E4 E5", "E7", "E6"},
    {4, 16, "H3 H4 H5", "L0", "H7"}, {5, 16, "L3 L4 L5", "L1", "L2"}};
// Legend: number, TXDn, RXDn, XCKn.
constexpr UsartPins kUsarts28[] = {{0, "D1", "D0", "D4"}};
constexpr UsartPins kUsarts40[] = {{0, "D1", "D0", "B0"}, {1, "D3", "D2", "D4"}};
constexpr UsartPins kUsarts100[] = {
    {0, "E1", "E0", "E2"}, {1, "D3", "D2", "D5"}, {2, "H1", "H0", "H2"}, {3, "J1", "J0", "J2"}};

/// The 28-pin family: all but the boot section is the same.
constexpr Wiring wiring_28(std::string_view names, std::uint8_t boot_fuse, std::uint16_t words) {
  return {names,
          kTimers28,
          kUsarts28,
          "D2 D3",
          "B0 B1 B2 B3 B4 B5 B6 B7 C0 C1 C2 C3 C4 C5 C6 - D0 D1 D2 D3 D4 D5 D6 D7",
          "C0 C1 C2 C3 C4 C5",
          AdcKind::kSmall,
          "B2 B3 B4 B5",
          "C4 C5",
          "D6 D7",
          boot_fuse,
          words};
}
/// The 40-pin family.
constexpr Wiring wiring_40(std::string_view names, std::uint16_t words) {
  return {names,
          kTimers40,
          kUsarts40,
          "D2 D3 B2",
          "A0 A1 A2 A3 A4 A5 A6 A7 B0 B1 B2 B3 B4 B5 B6 B7 C0 C1 C2 C3 C4 C5 C6 C7 D0 D1 D2 D3 D4 "
          "D5 D6 D7",
          "A0 A1 A2 A3 A4 A5 A6 A7",
          AdcKind::kDifferential,
          "B4 B5 B6 B7",
          "C1 C0",
          "B2 B3",
          1,
          words,
          "C2 C3 C4 C5"};
}

constexpr Wiring kWirings[] = {
    wiring_28("ATmega48 ATmega48A ATmega48P ATmega48PA", 0, 0),
    wiring_28("ATmega88 ATmega88A ATmega88P ATmega88PA", 2, 1024),
    wiring_28("ATmega168 ATmega168A ATmega168P ATmega168PA", 2, 1024),
    wiring_28("ATmega328 ATmega328P", 1, 2048),
    wiring_40("ATmega164P ATmega164A ATmega164PA", 1024),
    wiring_40("ATmega324P ATmega324A ATmega324PA", 2048),
    wiring_40("ATmega644P ATmega644A ATmega644PA", 4096),
    wiring_40("ATmega1284 ATmega1284P", 4096),
    {"ATmega640 ATmega1280 ATmega1281 ATmega2560 ATmega2561", kTimers100, kUsarts100,
     "D0 D1 D2 D3 E4 E5 E6 E7",
     "B0 B1 B2 B3 B4 B5 B6 B7 E0 J0 J1 J2 J3 J4 J5 J6 K0 K1 K2 K3 K4 K5 K6 K7",
     "F0 F1 F2 F3 F4 F5 F6 F7 K0 K1 K2 K3 K4 K5 K6 K7", AdcKind::kLarge, "B0 B2 B3 B1", "D1 D0",
     "E2 E3", 1, 4096, "F4 F5 F6 F7"},
};

struct LoneTimer {
  std::string_view parts;
  TimerPins pins;
};
// Timer 0 of parts whose other peripherals are not modelled.
constexpr LoneTimer kLoneTimers[] = {
    {"ATmega8 ATmega8A", {0, 8, "- -", "-", "D4"}},
    {"ATmega16 ATmega16A ATmega32 ATmega32A", {0, 8, "B3 -", "-", "B0"}},
    {"ATmega64 ATmega64A ATmega128 ATmega128A", {0, 8, "B4 -", "-", "-"}},
    {"ATmega16U4 ATmega32U4", {0, 8, "B7 D0", "-", "D7"}},
    {"ATtiny13 ATtiny13A", {0, 8, "B0 B1", "-", "B2"}},
    {"ATtiny2313 ATtiny2313A ATtiny4313", {0, 8, "B2 D5", "-", "D4"}},
    {"ATtiny24 ATtiny24A ATtiny44 ATtiny44A ATtiny84 ATtiny84A", {0, 8, "B2 A7", "-", "A3"}},
    {"ATtiny25 ATtiny45 ATtiny85", {0, 8, "B0 B1", "-", "B2"}}};

}  // namespace

const TimerPins* lone_timer_of(const Device& device) {
  for (const LoneTimer& timer : kLoneTimers)
    for (const std::string_view name : words_of(timer.parts))
      if (name == device.name) return &timer.pins;
  return nullptr;
}

const Wiring* wiring_of(const Device& device) {
  for (const Wiring& wiring : kWirings)
    for (const std::string_view name : words_of(wiring.parts))
      if (name == device.name) return &wiring;
  return nullptr;
}

std::string remark_on(const Device& device) {
  if (device.set == "bare") return "bare core";
  return wiring_of(device) != nullptr       ? "peripherals"
         : lone_timer_of(device) != nullptr ? "ports, timer 0"
                                            : "ports only";
}

}  // namespace lucid::avr
