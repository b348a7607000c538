// SPDX-License-Identifier: MIT
// Where a local lives: DWARF location expressions, evaluated against a call level ("DWARF Version
// 4", chapter "General Description", section on DWARF expressions). What is not understood is said
// to be unknown, never guessed.
#include <dwarf.h>
#include <fmt/format.h>

#include <algorithm>

#include "frames/callers.h"
#include "frames/held.h"
#include "frames/level.h"
#include "frames/place.h"
#include "frames/stack_machine.h"

namespace lucid::frames {
namespace {

constexpr std::uint32_t kMostBytes = 65536;

std::optional<std::uint8_t> byte_of(const Piece& piece, const machine::Machine& machine) {
  switch (piece.kind) {
    case Piece::Kind::kMemory: return machine.peek(piece.address);
    case Piece::Kind::kRegister:
      return static_cast<std::uint8_t>(machine.register_value(piece.index) >> (8 * piece.byte));
    case Piece::Kind::kConstant: return static_cast<std::uint8_t>(piece.index);
    case Piece::Kind::kUnknown: break;
  }
  return std::nullopt;
}

class LocationReader {
 public:
  LocationReader(const Local& local, const Scope& scope, const Level& level)
      : local_(local), scope_(scope), level_(level) {}

  Result<LocalPlace> read() {
    const std::uint32_t look = level_.look();
    const Local::Place* place = nullptr;
    for (const Local::Place& p : local_.places)
      if (look >= p.range.begin && look < p.range.end) place = &p;
    if (place == nullptr || place->ops.empty())
      return fail(Unknown::kNoPlace, fmt::format("'{}' has no value here", local_.name),
                  "not set yet, or optimised away");
    if (!scope_.as_described && without_frame(*place))
      return fail(Unknown::kNoFrame, fmt::format("'{}' has no value here", local_.name),
                  "its function's frame is not made yet, or taken down");
    const Type& type = scope_.program.types()[local_.type];
    const std::uint32_t bytes = std::min(type.bytes, kMostBytes);
    LocalPlace found;
    if (bytes == 0) {  // an empty structure: nothing of it can be unknown
      found.place.kind = Place::Kind::kPieces;
      return found;
    }
    add_pieces(place->ops, bytes);
    pieces_.resize(bytes);
    if (!scope_.as_described) {
      forget_what_does_not_hold(*place, bytes);
      found.shares_with = shares_with(*place, bytes);
    }
    const auto known = std::count_if(pieces_.begin(), pieces_.end(), [](const Piece& p) {
      return p.kind != Piece::Kind::kUnknown;
    });
    const bool aggregate = type.kind == Type::Kind::kStruct || type.kind == Type::Kind::kUnion ||
                           type.kind == Type::Kind::kArray;
    if (known == 0 || (!aggregate && known < static_cast<std::ptrdiff_t>(bytes))) {
      if (not_set_)
        return fail(Unknown::kNotSet, fmt::format("'{}' is not set yet", local_.name),
                    "not set yet");
      return fail(Unknown::kOverwritten, fmt::format("'{}' cannot be told here", local_.name),
                  "not set yet, or overwritten by now");
    }
    Place& object = found.place;
    object.kind = all_in_memory() ? Place::Kind::kMemory : Place::Kind::kPieces;
    if (object.kind == Place::Kind::kMemory)
      object.address = pieces_[0].address;
    else
      object.pieces = std::move(pieces_);
    return found;
  }

 private:
  /// A place relative to the frame holds only between the prologue and the epilogue, and while the
  /// register that it is reckoned from is the frame's.
  [[nodiscard]] bool without_frame(const Local::Place& place) const {
    const Function* function = level_.frame().function;
    if (function == nullptr) return false;
    const std::uint8_t atom = place.ops[0].atom;
    const bool by_register = atom >= DW_OP_breg0 && atom <= DW_OP_breg31;
    if ((!by_register && atom != DW_OP_fbreg) || place.ops.back().atom == DW_OP_stack_value)
      return false;
    int base = by_register ? atom - DW_OP_breg0 : -1;
    if (!by_register) {
      const auto ops = scope_.program.frame_base_at(level_.look());
      if (ops.size() == 1 && ops[0].atom >= DW_OP_reg0 && ops[0].atom <= DW_OP_reg31)
        base = ops[0].atom - DW_OP_reg0;
      if (!ops.empty() && ops[0].atom >= DW_OP_breg0 && ops[0].atom <= DW_OP_breg31)
        base = ops[0].atom - DW_OP_breg0;
    }
    const std::uint32_t node = node_address();
    if (everywhere(local_, place) && node < scope_.program.body_of(*function)) return true;
    if (base < 0 || !is_frame_register(base, *function)) return false;
    return !is_frame_pointer(scope_, *function, node, base);
  }

  /// Does the function use the register to point at its frame?
  [[nodiscard]] bool is_frame_register(int dwarf, const Function& function) const {
    return frame_offset(scope_, function, dwarf).has_value();
  }

  /// Where the level stands: the instruction, or the call that has not returned.
  [[nodiscard]] std::uint32_t node_address() const {
    const Frame& frame = level_.frame();
    return frame.at_call ? frame.pc - scope_.machine.target().convention().instruction_unit
                         : frame.pc;
  }

  /// Not one of a list of locations.
  static bool everywhere(const Local& local, const Local::Place& place) {
    return std::any_of(local.scope.begin(), local.scope.end(), [&](const Local::Range& r) {
      return r.begin == place.range.begin && r.end == place.range.end;
    });
  }

  /// A number, a pointer or another part that is stored as one.
  struct Part {
    std::uint32_t begin = 0, end = 0;
    bool whole = true;  ///< it holds nothing unless each of its bytes has been stored
  };
  void find_parts(unsigned type_index, std::uint32_t begin, std::vector<Part>& out) const {
    constexpr std::size_t kMost = 256;
    const Type& type = scope_.program.types()[type_index];
    const std::uint32_t end = begin + type.bytes;
    if (type.kind == Type::Kind::kArray && type.target != 0) {
      const std::uint32_t each = scope_.program.types()[type.target].bytes;
      if (each != 0 && type.bytes / each + out.size() <= kMost) {
        for (std::uint32_t at = begin; at + each <= end; at += each)
          find_parts(type.target, at, out);
        return;
      }
    }
    if (type.kind == Type::Kind::kStruct && !type.members.empty()) {
      for (const Type::Member& m : type.members) {
        const std::uint32_t at = begin + m.offset;
        if (m.bit_size != 0)
          out.push_back({at + m.bit_offset / 8U, at + (m.bit_offset + m.bit_size + 7U) / 8U});
        else
          find_parts(m.type, at, out);
      }
      return;
    }
    const bool simple = type.kind != Type::Kind::kStruct && type.kind != Type::Kind::kUnion &&
                        type.kind != Type::Kind::kArray;
    out.push_back({begin, end, simple});
  }

  /// Each part of it, by what the function's code does to its place.
  void forget_what_does_not_hold(const Local::Place& place, std::uint32_t bytes) {
    const Function* function = level_.frame().function;
    if (function == nullptr || level_.frame().left) return;
    std::vector<Part> parts;
    find_parts(local_.type, 0, parts);
    // Elsewhere than in the frame and in registers it holds as a whole, or not.
    constexpr std::size_t kMany = 32;
    const bool in_pieces =
        slot_offset(0) || std::any_of(pieces_.begin(), pieces_.end(), [](const Piece& piece) {
          return piece.kind == Piece::Kind::kRegister;
        });
    if (parts.empty() || (!in_pieces && parts.size() > kMany)) parts = {{0, bytes, true}};
    const bool together = all_in_memory();
    for (Part& part : parts) {
      part.end = std::min(part.end, bytes);
      if (part.begin >= part.end) continue;
      Holding holding = Holding::kHolds;
      for (const Part& stretch : stretches(place, part)) {
        const Part object = together ? Part{0, bytes, true} : stretch;
        const Holding one = holding_of(place, *function, stretch, object);
        if (one != Holding::kHolds) holding = one;
      }
      if (holding == Holding::kHolds) continue;
      not_set_ = holding == Holding::kNotSet;
      for (std::uint32_t i = part.begin; i < part.end; ++i) pieces_[i] = {};
    }
  }

  /// The bytes of a part that lie one behind the other: in the frame, in registers, elsewhere.
  [[nodiscard]] std::vector<Part> stretches(const Local::Place& place, const Part& part) const {
    const std::vector<int> registers = registers_of(place, part.end);
    const auto follows = [&](std::uint32_t i) {
      const auto before = slot_offset(i - 1), here = slot_offset(i);
      if (before || here) return before && here && *here == *before + 1;
      return registers[i] == registers[i - 1] ||
             (registers[i] >= 0 && registers[i - 1] >= 0 && registers[i] == registers[i - 1] + 1);
    };
    std::vector<Part> out;
    for (std::uint32_t i = part.begin; i < part.end; ++i) {
      if (i == part.begin || !follows(i)) out.push_back({i, i, part.whole});
      out.back().end = i + 1;
    }
    return out;
  }

  /// In which register each byte is said to be, by DWARF number; -1: in none.
  [[nodiscard]] std::vector<int> registers_of(const Local::Place& place,
                                              std::uint32_t bytes) const {
    std::vector<int> out(bytes, -1);
    std::uint32_t begin = 0;
    int at = -1;
    for (const LocationOp& op : place.ops) {
      if (op.atom == DW_OP_piece) {
        const std::uint32_t end = begin + static_cast<std::uint32_t>(op.a);
        for (std::uint32_t i = begin; at >= 0 && i < std::min(end, bytes); ++i)
          out[i] = at + static_cast<int>((i - begin) / level_.width_of(at));
        begin = end;
        at = -1;
      } else {
        at = op.atom >= DW_OP_reg0 && op.atom <= DW_OP_reg31 ? op.atom - DW_OP_reg0 : -1;
      }
    }
    return out;
  }

  /// `object`: what lies around a stretch of the frame.
  [[nodiscard]] Holding holding_of(const Local::Place& place, const Function& function,
                                   const Part& stretch, const Part& object) const {
    const auto offset = slot_offset(stretch.begin);
    if (!offset) {
      const std::uint32_t look = level_.frame().at_call ? level_.look() : level_.frame().pc;
      return register_holding(scope_, local_, function, look, stretch.begin, stretch.end);
    }
    const std::vector<bool> stored =
        slot_stores(scope_, function, node_address(), level_.frame().at_call,
                    *offset - static_cast<std::int32_t>(stretch.begin - object.begin),
                    object.end - object.begin);
    const auto first = stored.begin() + static_cast<std::ptrdiff_t>(stretch.begin - object.begin);
    const auto last = first + static_cast<std::ptrdiff_t>(stretch.end - stretch.begin);
    const bool held = stretch.whole ? std::find(first, last, false) == last
                                    : std::find(first, last, true) != last;
    if (!held) return Holding::kNotSet;
    // Clang gives a slot to the next one without a word.
    const bool given_away = !everywhere(local_, place) && behind_pointer(place.ops) != 0 &&
                            slot_was_given_away(scope_, local_, place, function, node_address(),
                                                *offset, stretch.end - stretch.begin);
    return given_away ? Holding::kOverwritten : Holding::kHolds;
  }

  /// Of a byte in this level's frame: its distance from the stack pointer at the function's entry.
  [[nodiscard]] std::optional<std::int32_t> slot_offset(std::uint32_t byte) const {
    const Frame& frame = level_.frame();
    const machine::CallConvention convention = scope_.machine.target().convention();
    if (!frame.known || pieces_[byte].kind != Piece::Kind::kMemory || !in_frame_) return {};
    const std::uint32_t entry_sp = frame.cfa - convention.return_bytes;
    const std::uint32_t address = pieces_[byte].address.offset;
    if (address >= entry_sp + convention.stack_gap || address + 4096 < entry_sp) return {};
    return static_cast<std::int32_t>(address - entry_sp);
  }

  /// Another local that is in scope and lies in the same bytes of the frame, where that says
  /// nothing of whose they are.
  [[nodiscard]] const Local* shares_with(const Local::Place& mine_by, std::uint32_t bytes) const {
    if (!all_in_memory() || !slot_offset(0) || pieces_.size() < bytes || scope_.looking_at_place)
      return nullptr;
    Scope others = scope_;
    others.as_described = others.looking_at_place = true;
    for (const Local* other : locals_of(scope_)) {
      if (other == &local_ || other->name == local_.name) continue;
      const auto found = find_place(*other, others);
      if (!found || found->place.kind != Place::Kind::kMemory) continue;
      const std::uint32_t begin = found->place.address.offset;
      const std::uint32_t size = std::max(1U, scope_.program.types()[other->type].bytes);
      const std::uint32_t mine = pieces_[0].address.offset;
      if (found->place.address.space != Space::kData || begin >= mine + bytes ||
          mine >= begin + size)
        continue;
      if (begin == mine && size == bytes && has_same_places(*other)) continue;
      return is_its_own(mine_by) ? nullptr : other;
    }
    return nullptr;
  }

  [[nodiscard]] bool is_its_own(const Local::Place& place) const {
    const Function* function = level_.frame().function;
    return function != nullptr && !everywhere(local_, place) &&
           slot_is_its_own(scope_, local_, place, *function, *slot_offset(0));
  }

  /// The compiler takes it for a copy, all along: by a list of places, not by one for both.
  [[nodiscard]] bool has_same_places(const Local& other) const {
    const auto same_op = [](const LocationOp& a, const LocationOp& b) {
      return a.atom == b.atom && a.a == b.a && a.b == b.b;
    };
    const auto same_place = [&](const Local::Place& a, const Local::Place& b) {
      return a.range.begin == b.range.begin && a.range.end == b.range.end &&
             std::equal(a.ops.begin(), a.ops.end(), b.ops.begin(), b.ops.end(), same_op);
    };
    return !everywhere(other, other.places.front()) &&
           std::equal(other.places.begin(), other.places.end(), local_.places.begin(),
                      local_.places.end(), same_place);
  }

  [[nodiscard]] bool all_in_memory() const {
    for (std::size_t i = 0; i < pieces_.size(); ++i)
      if (pieces_[i].kind != Piece::Kind::kMemory ||
          pieces_[i].address.offset != pieces_[0].address.offset + i)
        return false;
    return !pieces_.empty();
  }

  /// Splits a composite location; what is not understood leaves unknown pieces.
  void add_pieces(const std::vector<LocationOp>& ops, std::uint32_t bytes) {
    std::vector<LocationOp> part;
    bool composite = false;
    for (const LocationOp& op : ops) {
      if (op.atom != DW_OP_piece && op.atom != DW_OP_bit_piece) {
        part.push_back(op);
        continue;
      }
      composite = true;
      if (is_split_badly(part)) part.clear();
      if (op.atom == DW_OP_piece)
        add_part(part, static_cast<std::uint32_t>(op.a));
      else
        add_bits(part, static_cast<unsigned>(op.a), static_cast<unsigned>(op.b));
      part.clear();
    }
    if (!composite) add_part(part, bytes);
  }

  /// Where Clang splits a number it works each part out with the operands of the whole: what comes
  /// of a mask of the upper half, or is carried into it, is not in there.
  [[nodiscard]] bool is_split_badly(const std::vector<LocationOp>& part) const {
    const bool number = scope_.program.types()[local_.type].members.empty() &&
                        scope_.program.types()[local_.type].kind != Type::Kind::kArray;
    return number && !pieces_.empty() && part.size() > 1 && part.back().atom == DW_OP_stack_value &&
           part[0].atom >= DW_OP_breg0 && part[0].atom <= DW_OP_breg31 &&
           (part.size() > 2 || part[0].a != 0);
  }

  void add_part(const std::vector<LocationOp>& ops, std::uint32_t bytes) {
    bytes = std::min(bytes, kMostBytes - static_cast<std::uint32_t>(pieces_.size()));
    const std::size_t end = pieces_.size() + bytes;
    const auto add_constants = [&](std::uint64_t raw, unsigned known) {
      for (unsigned i = 0; i < bytes && i < 8 && 8 * i + 8 <= known; ++i) {
        pieces_.emplace_back();
        pieces_.back().kind = Piece::Kind::kConstant;
        pieces_.back().index = raw >> (8 * i) & 0xff;
      }
    };
    const std::uint8_t atom = ops.empty() ? std::uint8_t{DW_OP_nop} : ops[0].atom;
    level_.set_value_bytes(bytes);
    if ((atom >= DW_OP_reg0 && atom <= DW_OP_reg31) || atom == DW_OP_regx) {
      const int first = atom == DW_OP_regx ? static_cast<int>(ops[0].a) : atom - DW_OP_reg0;
      for (std::uint32_t i = 0; i < bytes; ++i) pieces_.push_back(level_.piece(first, i));
    } else if (atom == DW_OP_implicit_value) {
      add_constants(static_cast<std::uint64_t>(ops[0].b), Slot::kAll);
    } else if (const auto found = ops.empty() ? std::nullopt : compute(in_frame(ops), level_)) {
      if (found->is_value && is_frame_address(ops)) {
        // A number cannot be reckoned from the frame's place: Clang has forgotten to load it.
      } else if (found->is_value) {
        // GCC complements a truth value with all bits of its register; only the lowest one is it.
        const bool truth = scope_.program.types()[local_.type].kind == Type::Kind::kBool;
        add_constants(truth ? found->top.raw & 1U : found->top.raw, found->top.known);
      } else if (level_.is_address(found->top)) {
        const std::uint32_t gap = is_loaded(ops) ? 0U : behind_pointer(ops);
        in_frame_ = in_frame_ || (is_in_frame(ops) && !is_loaded(ops));
        for (std::uint32_t i = 0; i < bytes; ++i) {
          pieces_.emplace_back();
          pieces_.back().kind = Piece::Kind::kMemory;
          pieces_.back().address = level_.data_address(found->top.raw + i + gap);
        }
      }
    }
    pieces_.resize(end);
  }

  /// Reckoned from the frame, not from a pointer of the program's.
  [[nodiscard]] bool is_in_frame(const std::vector<LocationOp>& ops) const {
    const std::uint8_t atom = ops[0].atom;
    if (atom == DW_OP_fbreg || atom == DW_OP_call_frame_cfa) return true;
    const Function* function = level_.frame().function;
    return function != nullptr && atom >= DW_OP_breg0 && atom <= DW_OP_breg31 &&
           is_frame_register(atom - DW_OP_breg0, *function);
  }

  /// Clang counts from the first byte in use, in places relative to the frame's register as well.
  [[nodiscard]] std::uint32_t behind_pointer(const std::vector<LocationOp>& ops) const {
    const auto base = scope_.program.frame_base_at(level_.look());
    const bool named = base.size() == 1 && base[0].atom >= DW_OP_reg0 &&
                       base[0].atom <= DW_OP_reg31 && ops[0].atom >= DW_OP_breg0 &&
                       ops[0].atom - DW_OP_breg0 == base[0].atom - DW_OP_reg0;
    return named ? scope_.machine.target().convention().stack_gap : 0U;
  }

  /// What is loaded from the frame for a value that is worked out lies there, too.
  [[nodiscard]] std::vector<LocationOp> in_frame(std::vector<LocationOp> ops) const {
    if (is_loaded(ops)) ops[0].a += behind_pointer(ops);
    return ops;
  }
  static bool is_loaded(const std::vector<LocationOp>& ops) {
    return ops.size() > 1 && (ops[1].atom == DW_OP_deref || ops[1].atom == DW_OP_deref_size);
  }
  [[nodiscard]] bool is_frame_address(const std::vector<LocationOp>& ops) const {
    const bool address = scope_.program.types()[local_.type].kind == Type::Kind::kPointer;
    return !address && !is_loaded(ops) && behind_pointer(ops) != 0;
  }

  /// Bits that follow those before them; a byte of which a bit is unknown is unknown.
  void add_bits(const std::vector<LocationOp>& ops, unsigned count, unsigned offset) {
    if (count > 64 || offset > 64) return;
    const std::size_t behind = pieces_.size();
    add_part(ops, (offset + count + 7) / 8);
    Place place;
    place.kind = Place::Kind::kPieces;
    place.pieces.assign(pieces_.begin() + static_cast<std::ptrdiff_t>(behind), pieces_.end());
    pieces_.resize(behind);
    for (unsigned i = offset; i < offset + count; ++i) {
      const auto byte = byte_of(place, i / 8, scope_.machine);
      if (bits_ == 0) byte_ = 0;
      if (!byte)
        byte_.reset();
      else if (byte_)
        *byte_ |= (*byte >> i % 8 & 1U) << bits_;
      if (++bits_ < 8) continue;
      bits_ = 0;
      pieces_.emplace_back();
      if (!byte_) continue;
      pieces_.back().kind = Piece::Kind::kConstant;
      pieces_.back().index = *byte_;
    }
  }

  const Local& local_;
  const Scope& scope_;
  const Level& level_;
  std::vector<Piece> pieces_;
  bool not_set_ = false;
  bool in_frame_ = false;         ///< it is in memory at an address that is worked out
  unsigned bits_ = 0;             ///< of the byte under way
  std::optional<unsigned> byte_;  ///< unknown if a bit of it is
};

}  // namespace

std::optional<std::uint8_t> byte_of(const Place& place, std::uint32_t offset,
                                    const machine::Machine& machine) {
  if (place.kind == Place::Kind::kMemory)
    return machine.peek({place.address.space, place.address.offset + offset});
  if (place.kind != Place::Kind::kPieces || offset >= place.pieces.size()) return std::nullopt;
  return byte_of(place.pieces[offset], machine);
}

/// The scope's call level and those within it.
static std::vector<Frame> levels_down_to(const Scope& scope) {
  return call_levels(scope.program, scope.machine, scope.flows, std::size_t{scope.level} + 1);
}

std::uint32_t names_address(const Scope& scope) {
  if (scope.names_at) return *scope.names_at;
  if (scope.level == 0) return scope.machine.pc();
  const auto levels = levels_down_to(scope);
  return scope.level < levels.size() ? look_address(levels[scope.level]) : scope.machine.pc();
}

std::vector<const Local*> locals_of(const Scope& scope) {
  const std::uint32_t look = names_address(scope);
  const InlinedCall* body = nullptr;  // whose names are meant
  if (scope.level == 0 || scope.names_at) {
    const auto inlined = scope.program.inlined_at(look);
    if (!inlined.empty()) body = inlined.front();
  } else if (const auto levels = levels_down_to(scope); scope.level < levels.size()) {
    body = levels[scope.level].inlined;
  }
  std::vector<const Local*> out;
  for (const Local* local : scope.program.locals_at(look)) {
    const InlinedCall* owner =
        local->inlined < 0
            ? nullptr
            : &scope.program.inlined_calls()[static_cast<std::size_t>(local->inlined)];
    if (owner == body) out.push_back(local);
  }
  return out;
}

Result<LocalPlace> find_place(const Local& local, const Scope& scope) {
  const auto levels = levels_down_to(scope);
  if (scope.level >= levels.size())
    return fail(ErrorCode::kNotFound, "there is no such call level any more");
  const std::uint32_t look = look_address(levels[scope.level]);
  bool in_scope = false;
  for (const Local::Range& range : local.scope)
    in_scope = in_scope || (look >= range.begin && look < range.end);
  if (!in_scope)
    return fail(Unknown::kNotInScope, fmt::format("'{}' is not in scope here", local.name), "");
  return LocationReader(local, scope, Level(levels, scope.level, scope)).read();
}

}  // namespace lucid::frames
