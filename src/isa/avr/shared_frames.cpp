// SPDX-License-Identifier: MIT
// Frames that avr-gcc's -mcall-prologues builds: most of avr-libc's larger functions, vfprintf
// among them. Such a function jumps into __prologue_saves__, which pushes registers and makes room,
// and leaves by a jump into __epilogue_restores__. There is no frame information; the code itself
// tells.
#include <algorithm>
#include <array>

#include "isa/avr/target.h"
#include "isa/machine.h"

namespace lucid::avr {
namespace {

constexpr std::uint32_t kMostWords = 64;

// Behind the pushes: Y takes SP, less the room in X; SP follows; on through Z.
constexpr std::array<unsigned, 10> kSaves{0xb7cd, 0xb7de, 0x1bca, 0x0bdb, 0xb60f,
                                          0x94f8, 0xbfde, 0xbe0f, 0xbfcd, 0x9409};
// Behind the loads: Y plus the saved bytes in r30; SP follows; the caller's Y; return.
constexpr std::array<unsigned, 9> kRestores{0x0fce, 0x1dd1, 0xb60f, 0x94f8, 0xbfde,
                                            0xbe0f, 0xbfcd, 0x01ed, 0x9508};

class Code {
 public:
  explicit Code(const isa::Machine& machine) : machine_(machine) {}
  [[nodiscard]] unsigned word(std::uint32_t address) const {
    return machine_.peek({Space::kCode, address}).value_or(0) |
           machine_.peek({Space::kCode, address + 1}).value_or(0) << 8;
  }
  [[nodiscard]] bool is_push(std::uint32_t at) const { return (word(at) & 0xfe0fU) == 0x920f; }
  [[nodiscard]] bool is_load(std::uint32_t at) const { return (word(at) & 0xd208U) == 0x8008; }
  [[nodiscard]] int reg(std::uint32_t at) const { return static_cast<int>(word(at) >> 4 & 31U); }
  [[nodiscard]] unsigned displacement(std::uint32_t at) const {
    const unsigned w = word(at);
    return (w & 7U) | (w >> 7 & 0x18U) | (w >> 8 & 0x20U);
  }
  /// Where a jump goes, and how long it is.
  [[nodiscard]] std::optional<std::uint32_t> jump(std::uint32_t at, std::uint32_t& bytes) const {
    const unsigned w = word(at);
    if ((w & 0xfe0eU) == 0x940c) {
      bytes = 4;
      return 2 * (word(at + 2) | (w & 1U) << 16 | (w >> 3 & 0x3eU) << 16);
    }
    if ((w & 0xf000U) != 0xc000) return std::nullopt;
    bytes = 2;
    const std::uint32_t offset = (w & 0xfffU) | ((w & 0x800U) != 0 ? 0xfffff000U : 0U);
    return at + 2 + 2 * offset;
  }
  /// The place in `tail` of the word at `at`, if the rest of the tail follows it.
  template <std::size_t N>
  [[nodiscard]] std::optional<unsigned> in_tail(const std::array<unsigned, N>& tail,
                                                std::uint32_t at) const {
    for (unsigned first = 0; first < N; ++first) {
      bool all = true;
      for (unsigned i = first; all && i < N; ++i) {
        const unsigned w = word(at + 2 * (i - first));
        all = w == tail[i] || (tail[i] == 0x9409 && w == 0x9419);  // ijmp or eijmp
      }
      if (all) return first;
    }
    return std::nullopt;
  }
  /// The registers pushed from `at` on, if what follows is the helper's.
  [[nodiscard]] std::optional<std::vector<int>> saves(std::uint32_t at) const {
    std::vector<int> out;
    while (out.size() < 18 && is_push(at)) {
      out.push_back(reg(at));
      at += 2;
    }
    if (in_tail(kSaves, at) != 0U) return std::nullopt;
    return out;
  }
  [[nodiscard]] bool restores(std::uint32_t at) const {
    for (unsigned i = 0; i < 18 && is_load(at); ++i) at += 2;
    return in_tail(kRestores, at) == 0U;
  }

 private:
  const isa::Machine& machine_;
};

}  // namespace

std::optional<isa::SharedFrame> AvrTarget::shared_frame(const isa::Machine& machine,
                                                        const isa::RegisterReader& value_of,
                                                        std::uint32_t begin, std::uint32_t look,
                                                        std::uint32_t sp) const {
  const Code code(machine);
  const std::uint32_t back = convention().return_bytes;
  const auto pair = [&](int low) {
    return static_cast<std::uint32_t>((value_of(low) & 0xff) | (value_of(low + 1) & 0xff) << 8);
  };
  isa::SharedFrame frame;
  const auto save = [&](const std::vector<int>& registers, std::size_t count) {
    for (std::size_t i = 0; i < count; ++i)  // a push stores at SP: one below what is counted
      frame.saved.push_back({registers[i], frame.cfa - back - static_cast<std::uint32_t>(i)});
  };

  // In the helper that saves?
  std::uint32_t at = look;
  while (at < look + 2 * kMostWords && code.is_push(at)) at += 2;
  if (const auto place = code.in_tail(kSaves, at); place && (*place == 0 || at == look)) {
    const std::uint32_t body = 2 * pair(30) % flash_bytes_;
    std::uint32_t bytes = 0;
    for (const std::uint32_t length : {4U, 2U}) {
      const auto entry = code.jump(body - length, bytes);
      if (!entry || bytes != length) continue;
      const auto registers = code.saves(*entry);
      if (!registers) continue;
      const std::size_t pushed =
          at == look ? registers->size() : std::min<std::size_t>((look - *entry) / 2, 18);
      const std::uint32_t base = *place > 3 ? pair(28) + pair(26) : sp;
      frame.cfa = base + static_cast<std::uint32_t>(pushed) + back;
      frame.owner = body;
      save(*registers, pushed);
      return frame;
    }
    return std::nullopt;
  }

  // In the one that restores?
  at = look;
  while (at < look + 2 * kMostWords && code.is_load(at)) at += 2;
  if (const auto place = code.in_tail(kRestores, at); place && (*place == 0 || at == look)) {
    std::uint32_t y = pair(28);
    if (*place == 0) {
      for (std::uint32_t load = look; load < at; load += 2) {
        const int reg = code.reg(load);  // the caller's Y comes through X
        frame.saved.push_back({reg >= 26 ? reg + 2 : reg, y + code.displacement(load)});
      }
      y += static_cast<std::uint32_t>(value_of(30) & 0xff);
    } else if (*place == 1) {
      y += (machine.flags() & 1U) << 8;
    }
    for (const int reg : {28, 29}) {
      const auto known = [reg](const auto& saved) { return saved.dwarf_register == reg; };
      if (*place < 8 && std::none_of(frame.saved.begin(), frame.saved.end(), known))
        frame.saved.push_back({reg, static_cast<std::uint32_t>(reg - 2)});
    }
    frame.cfa = (*place > 6 ? sp : y) + back;
    return frame;
  }

  // In a function that uses them: `ldi` of X and Z, and a jump into the first one.
  std::array<unsigned, 32> loaded{};
  at = begin;
  std::uint32_t bytes = 0;
  for (unsigned i = 0; i < 8 && (code.word(at) & 0xf000U) == 0xe000; ++i, at += 2) {
    const unsigned w = code.word(at);
    loaded[16 + (w >> 4 & 15U)] = (w >> 4 & 0xf0U) | (w & 15U);
  }
  const auto entry = code.jump(at, bytes);
  const auto registers = entry ? code.saves(*entry) : std::nullopt;
  if (!registers || 2 * (loaded[30] | loaded[31] << 8) != at + bytes || look < at + bytes)
    return std::nullopt;
  // Just before the jump into the other helper Y has been moved over the room.
  std::uint32_t room = loaded[26] | loaded[27] << 8;
  at = look;
  for (unsigned i = 0; i < 3; ++i) {
    const unsigned w = code.word(at);
    if ((w & 0xff30U) == 0x9620 || (w & 0xf0f0U) == 0x50c0) break;  // adiw, subi of Y
    if (const auto target = code.jump(at, bytes); target && code.restores(*target)) room = 0;
    at += 2;
  }
  frame.cfa = pair(28) + room + static_cast<std::uint32_t>(registers->size()) + back;
  save(*registers, registers->size());
  return frame;
}

}  // namespace lucid::avr
