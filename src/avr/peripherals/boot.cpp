// SPDX-License-Identifier: MIT
#include "avr/peripherals/boot.h"

#include <fmt/format.h>

namespace lucid::avr {
namespace {

constexpr u64 kMicroseconds = 4000;  // to erase or write a page, typical

}  // namespace

u32 Boot::boot_word(const World& world) const {
  const u32 words = device_.flash / 2;
  if (wiring_.boot_fuse == 0) return words;
  return words - (wiring_.boot_words >> (world.fuses[wiring_.boot_fuse] >> 1 & 3U));
}

bool Boot::starts_in_boot(const World& world) const {
  return wiring_.boot_fuse != 0 && (world.fuses[wiring_.boot_fuse] & 1U) == 0;
}

u8 Boot::peek(const World& world, u16 address, u64 t) const {
  const BootState& state = world.boot;
  const bool shown = state.busy || t < state.enabled_until;
  return static_cast<u8>((world.data[address] & (shown ? 0xbfU : unsigned{kSpmie})) |
                         (state.rww_busy ? kRwwsb : 0));
}

bool Boot::assume(const Bus& bus, u16 address, u8 value, u64 /*t*/) const {
  constexpr u8 kHeld = static_cast<u8>(~unsigned{kRwwsb | kSpmen});
  bus.reg(address) = merged(bus.reg(address), value, kHeld);
  refresh_request(bus);
  return true;
}

void Boot::write(const Bus& bus, u16 address, u8 value, u8 mask, u64 t) const {
  BootState& state = bus.world.boot;
  if (state.busy) {
    bus.misused("SPMCSR was written while flash is being programmed; only SPMIE is taken");
    mask &= kSpmie;
  } else if (bus.world.eeprom_controller.writing && (value & mask & kSpmen) != 0) {
    bus.misused("SPMCSR was written while EEPROM is being programmed; it is unchanged");
    return;
  }
  bus.reg(address) = static_cast<u8>(merged(bus.reg(address), value, mask) & ~unsigned{kRwwsb});
  if ((value & mask & kSpmen) != 0) state.enabled_until = t + 1 + 4;
  refresh_request(bus);
}

/// The section that the boot loader can program and run beside.
bool Boot::is_read_while_writing(u32 address) const {
  return wiring_.boot_fuse != 0 && address < device_.flash - 2U * wiring_.boot_words;
}

bool Boot::is_busy(const World& world, u32 address) const {
  return world.boot.rww_busy && is_read_while_writing(address % device_.flash);
}

/// Erasing or writing a page takes its time. In the section that can be read meanwhile nothing is:
/// the processor halts.
void Boot::begin(const Bus& bus, u32 address) const {
  BootState& state = bus.world.boot;
  const u64 end = bus.world.tick_at(bus.world.cpu.now) + kMicroseconds * clock_hz_ / 1'000'000;
  if (!is_read_while_writing(address)) {
    bus.stall(bus.world.cycle_at(end) - bus.world.cpu.now);
    return;
  }
  state.busy = state.rww_busy = true;
  bus.schedule_tick(slot_, end);
}

std::pair<u32, u32> Boot::spm(const Bus& bus, u32 pc, u32 z) const {
  BootState& state = bus.world.boot;
  World& world = bus.world;
  // SPM is the instruction behind `now`: the store to SPMCSR ended up to four cycles before it.
  if (state.busy || world.cpu.now > state.enabled_until) {
    bus.misused(
        fmt::format("{:#06x}: SPM outside the four cycles after SPMEN: it does nothing", pc));
    return {};
  }
  if (wiring_.boot_fuse != 0 && pc < 2 * boot_word(world)) {
    bus.misused(fmt::format("{:#06x}: SPM outside the boot section: it does nothing", pc));
    return {};
  }
  state.enabled_until = 0;
  const u32 page = device_.flash_page;
  if (state.page.empty()) state.page.assign(page, 0xff);
  const u32 begin_of_page = z % device_.flash / page * page;
  const unsigned what = bus.reg(spmcsr_) & (kRwwsre | kBlbset | kPgwrt | kPgers | kSpmen);
  bus.reg(spmcsr_) &= kSpmie;
  switch (what) {
    case kSpmen: {
      const u32 at = z % page & ~1U;
      state.page[at] &= world.data[0];
      state.page[at + 1] &= world.data[1];
      return {};
    }
    case kPgers | kSpmen:
    case kPgwrt | kSpmen: {
      const bool erase = (what & kPgers) != 0;
      if (erase) bus.wear_flash(begin_of_page);
      for (u32 i = 0; i < page; ++i) {
        const u32 a = begin_of_page + i;
        world.flash.write(a, erase ? 0xff : static_cast<u8>(world.flash[a] & state.page[i]));
      }
      if (!erase) state.page.clear();
      bus.reg(spmcsr_) |= static_cast<u8>(what);
      begin(bus, begin_of_page);
      if (!state.busy) bus.reg(spmcsr_) &= kSpmie;
      refresh_request(bus);
      return {begin_of_page, begin_of_page + page};
    }
    case kRwwsre | kSpmen:
      state.rww_busy = false;
      state.page.clear();
      return {};
    case kBlbset | kSpmen: world.lock &= static_cast<u8>(world.data[0] | 0xc0U); return {};
    default:
      bus.misused(fmt::format("{:#06x}: SPM with reserved bits in SPMCSR: it does nothing", pc));
      return {};
  }
}

std::optional<u8> Boot::special_byte(const World& world, u32 z) const {
  if (world.cpu.now > world.boot.enabled_until) return std::nullopt;
  const unsigned what = world.data[spmcsr_] & 0x3fU;
  if (what == (kBlbset | kSpmen)) {
    const std::array<u8, 4> bytes{world.fuses[0], world.lock, world.fuses[2], world.fuses[1]};
    return bytes[z & 3U];
  }
  if (what == (kSigrd | kSpmen)) {
    if (z % 2 == 1) return z == 1 ? world.data[osccal_] : u8{0xff};
    return z / 2 < 3 ? device_.signature[z / 2] : u8{0xff};
  }
  return std::nullopt;
}

void Boot::on_event(const Bus& bus, unsigned /*slot*/, u64 /*due*/) const {
  bus.world.boot.busy = false;
  bus.reg(spmcsr_) &= kSpmie;
  refresh_request(bus);
}

void Boot::refresh_request(const Bus& bus) const {
  bus.request(vector_, (bus.reg(spmcsr_) & kSpmie) != 0 && !bus.world.boot.busy);
}

void Boot::reset(const Bus& bus) const {
  bus.world.boot = BootState{};
  bus.schedule(slot_, kNever);
  refresh_request(bus);
}

}  // namespace lucid::avr
