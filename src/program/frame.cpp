// SPDX-License-Identifier: MIT
// Executes call frame instructions up to one address ("Call Frame Information", section "Call Frame
// Instructions"). Expressions are not evaluated: the row is then unknown.
#include <dwarf.h>

#include <map>

#include "program/program_data.h"

namespace lucid::program {
namespace {

/// Reads little-endian numbers; after the end it gives zeros and remembers that.
class Cursor {
 public:
  explicit Cursor(const std::vector<std::uint8_t>& bytes) : bytes_(bytes) {}
  [[nodiscard]] bool more() const { return at_ < bytes_.size(); }
  [[nodiscard]] bool failed() const { return failed_; }

  std::uint32_t fixed(unsigned size) {
    std::uint32_t value = 0;
    for (unsigned i = 0; i < size; ++i) value |= std::uint32_t{byte()} << (8 * i);
    return value;
  }
  std::uint8_t byte() {
    if (more()) return bytes_[at_++];
    failed_ = true;
    return 0;
  }
  std::uint64_t uleb() {
    std::uint64_t value = 0;
    for (unsigned shift = 0; shift < 64; shift += 7) {
      const std::uint8_t b = byte();
      value |= std::uint64_t{b & 0x7fU} << shift;
      if ((b & 0x80) == 0) break;
    }
    return value;
  }
  std::int64_t sleb() {
    std::uint64_t value = 0;
    unsigned shift = 0;
    std::uint8_t b = 0x80;
    while ((b & 0x80) != 0 && shift < 64) {
      b = byte();
      value |= std::uint64_t{b & 0x7fU} << shift;
      shift += 7;
    }
    if (shift < 64 && (b & 0x40) != 0) value |= ~std::uint64_t{0} << shift;
    return static_cast<std::int64_t>(value);
  }

 private:
  const std::vector<std::uint8_t>& bytes_;
  std::size_t at_ = 0;
  bool failed_ = false;
};

struct Rules {
  int cfa_register = -1;
  std::int64_t cfa_offset = 0;
  std::map<int, std::int64_t> saved;
};

class Executor {
 public:
  Executor(const Program::Data::Fde& fde, std::uint32_t address)
      : fde_(fde), address_(address), location_(fde.begin) {}

  std::optional<FrameRow> row() {
    if (!execute(fde_.initial)) return std::nullopt;
    initial_ = rules_;
    if (!execute(fde_.program) || rules_.cfa_register < 0) return std::nullopt;
    FrameRow out;
    out.cfa_register = rules_.cfa_register;
    out.cfa_offset = static_cast<std::int32_t>(rules_.cfa_offset);
    for (const auto& [reg, offset] : rules_.saved)
      out.saved.push_back({reg, static_cast<std::int32_t>(offset)});
    return out;
  }

 private:
  /// False if something cannot be known.
  bool execute(const std::vector<std::uint8_t>& program) {
    Cursor in(program);
    while (in.more() && location_ <= address_) {
      const std::uint8_t op = in.byte();
      const int low = op & 0x3f;
      switch (op & 0xc0) {
        case DW_CFA_advance_loc: advance(static_cast<std::uint32_t>(low)); continue;
        case DW_CFA_offset: save(low, static_cast<std::int64_t>(in.uleb())); continue;
        case DW_CFA_restore: restore(low); continue;
        default: break;
      }
      switch (op) {
        case DW_CFA_nop: break;
        case DW_CFA_set_loc: location_ = in.fixed(4); break;
        case DW_CFA_advance_loc1: advance(in.fixed(1)); break;
        case DW_CFA_advance_loc2: advance(in.fixed(2)); break;
        case DW_CFA_advance_loc4: advance(in.fixed(4)); break;
        case DW_CFA_offset_extended: {
          const int reg = static_cast<int>(in.uleb());
          save(reg, static_cast<std::int64_t>(in.uleb()));
          break;
        }
        case DW_CFA_offset_extended_sf: {
          const int reg = static_cast<int>(in.uleb());
          save(reg, in.sleb());
          break;
        }
        case DW_CFA_restore_extended: restore(static_cast<int>(in.uleb())); break;
        case DW_CFA_undefined:
        case DW_CFA_same_value: rules_.saved.erase(static_cast<int>(in.uleb())); break;
        case DW_CFA_remember_state: remembered_.push_back(rules_); break;
        case DW_CFA_restore_state:
          if (remembered_.empty()) return false;
          rules_ = remembered_.back();
          remembered_.pop_back();
          break;
        case DW_CFA_def_cfa:
          rules_.cfa_register = static_cast<int>(in.uleb());
          rules_.cfa_offset = static_cast<std::int64_t>(in.uleb());
          break;
        case DW_CFA_def_cfa_sf:
          rules_.cfa_register = static_cast<int>(in.uleb());
          rules_.cfa_offset = in.sleb() * fde_.data_factor;
          break;
        case DW_CFA_def_cfa_register: rules_.cfa_register = static_cast<int>(in.uleb()); break;
        case DW_CFA_def_cfa_offset: rules_.cfa_offset = static_cast<std::int64_t>(in.uleb()); break;
        case DW_CFA_def_cfa_offset_sf: rules_.cfa_offset = in.sleb() * fde_.data_factor; break;
        case DW_CFA_GNU_args_size: in.uleb(); break;
        default: return false;
      }
      if (in.failed()) return false;
    }
    return true;
  }

  void advance(std::uint32_t delta) { location_ += delta * fde_.code_factor; }
  void save(int reg, std::int64_t offset) { rules_.saved[reg] = offset * fde_.data_factor; }
  void restore(int reg) {
    const auto it = initial_.saved.find(reg);
    if (it == initial_.saved.end())
      rules_.saved.erase(reg);
    else
      rules_.saved[reg] = it->second;
  }

  const Program::Data::Fde& fde_;
  std::uint32_t address_;
  std::uint32_t location_;
  Rules rules_, initial_;
  std::vector<Rules> remembered_;
};

}  // namespace

std::optional<FrameRow> execute_frame(const Program::Data::Fde& fde, std::uint32_t address) {
  return Executor(fde, address).row();
}

}  // namespace lucid::program
