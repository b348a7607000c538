// SPDX-License-Identifier: MIT
// Where a value has come from: its last write, through moves, to the instruction that worked it
// out, and what fed that; and the writes of an object as a table.
#include <fmt/format.h>

#include <algorithm>
#include <deque>
#include <set>
#include <tuple>

#include "expression/object.h"
#include "session/origins.h"
#include "session/quiet.h"

namespace lucid {
namespace {

using machine::Cell;
using machine::Making;

constexpr std::size_t kMostBytes = 8;      ///< of an object whose origin is asked for
constexpr std::size_t kMostNodes = 60;     ///< of a tree
constexpr unsigned kMostMoves = 5'000;     ///< that a value is followed through
constexpr std::size_t kMostFeeders = 400;  ///< that a line is looked through for
constexpr std::uint64_t kOneWork = 400;    ///< ticks within which the bytes of a value are made

std::vector<Cell> bytes_of(const frames::Place& place) {
  std::vector<Cell> out;
  if (place.kind != frames::Place::Kind::kMemory || place.bytes > kMostBytes) return out;
  for (std::uint32_t i = 0; i < place.bytes; ++i)
    out.push_back({Cell::Kind::kMemory, 0, {place.address.space, place.address.offset + i}});
  return out;
}

}  // namespace

/// An instruction after the other; what each writes is known from its code.
std::optional<Session::Core::Origins::Write> Session::Core::Origins::step_through(
    const Cell& cell, const record::Moment& until, const record::Moment& at) {
  std::optional<Write> found;
  std::map<std::uint32_t, bool> writes;  // by address
  const machine::Target& target = machine().target();
  machine::RunRequest one;
  one.instructions = 1;
  while (machine().ticks() < until.tick && !core_.pause_requested_) {
    const std::uint32_t pc = machine().pc();
    auto known = writes.find(pc);
    if (known == writes.end()) {
      const Instruction instruction = machine().instruction_at(pc, false);
      const bool does = target.making(machine(), instruction, cell).how != Making::How::kNot;
      known = writes.emplace(pc, does).first;
    }
    const Outcome outcome = core_.run(one);
    core_.stood_at_ = {machine().pc(), machine().ticks()};
    if (known->second && outcome.stop.interrupt < 0 && outcome.stop.last_pc == pc &&
        core_.now() <= at)
      found = Write{core_.now(), pc};
    if (outcome.stop.why == machine::Stop::Why::kFault) break;
  }
  return found;
}

const std::vector<std::uint32_t>& Session::Core::Origins::writers_of(const Cell& cell) {
  const auto known = writers_.find(cell);
  if (known != writers_.end()) return known->second;
  std::vector<std::uint32_t>& out = writers_[cell];
  const machine::Target& target = machine().target();
  const std::uint8_t unit = target.convention().instruction_unit;
  for (const MemoryArea& area : machine().info().memories)
    for (std::uint32_t a = area.begin; area.space == Space::kCode && a < area.end; a += unit) {
      if (machine().peek({Space::kCode, a}) == std::uint8_t{0xff} &&
          machine().peek({Space::kCode, a + 1}) == std::uint8_t{0xff})
        continue;  // erased
      const Instruction instruction = machine().instruction_at(a, false);
      const bool writes =
          cell.kind == Cell::Kind::kRegister
              ? (target.writes(instruction) >> cell.number & 1U) != 0
              : target.making(machine(), instruction, cell).how != Making::How::kNot;
      if (writes) out.push_back(a);
    }
  return out;
}

/// Memory is watched. A register is written by instructions that are known, or as memory. With
/// `crowded` it is given up, and that told, where it is written often.
std::optional<Session::Core::Origins::Write> Session::Core::Origins::watch_through(
    const Cell& cell, const record::Moment& until, const record::Moment& at, bool* crowded) {
  std::optional<Write> found;
  core_.make_marks();
  std::optional<Address> address;
  if (cell.kind == Cell::Kind::kMemory) address = cell.address;
  if (const MemoryArea* file = machine().area("registers"); file != nullptr &&
                                                            cell.kind == Cell::Kind::kRegister &&
                                                            cell.number < file->end - file->begin)
    address = Address{file->space, file->begin + cell.number};
  const bool by_itself = address && (is_io(*address) || address->space != Space::kData);
  if (address)
    (void)machine()
        .watch(*address,
               static_cast<std::uint8_t>(by_itself ? machine::kOnWrite | machine::kOnChange
                                                   : machine::kOnWrite))
        .has_value();
  static const std::vector<std::uint32_t> kNone;
  const auto& writers = cell.kind == Cell::Kind::kMemory ? kNone : writers_of(cell);
  for (const std::uint32_t writer : writers)
    (void)machine().set_breakpoint(writer, true).has_value();
  machine::RunRequest request;
  request.pause_requested = &core_.attention_;
  bool stands = false;
  constexpr unsigned kMany = 256;
  unsigned stops = 0;
  while (machine().ticks() < until.tick && !core_.pause_requested_) {
    stands = core_.happen() || stands;
    request.pass_first_breakpoint = stands;
    request.instructions = stands ? 1 : UINT64_MAX;
    request.until_ticks = std::min({until.tick, core_.next_stop(), core_.later(Core::kSliceTicks)});
    const std::uint32_t pc = machine().pc();
    const bool writer = std::binary_search(writers.begin(), writers.end(), pc);
    machine().count_apart(true);
    const machine::Stop stop = machine().run(request);
    for (const machine::Access& access : stop.accesses)
      if (access.write && access.address == address && core_.now() <= at)
        found = Write{core_.now(), access.pc};
    if (stands && writer && stop.interrupt < 0 && stop.last_pc == pc && core_.now() <= at)
      found = Write{core_.now(), pc};
    if (stop.why == machine::Stop::Why::kFault) break;
    if (stop.why == machine::Stop::Why::kTime)
      core_.tell_progress();
    else if (crowded != nullptr && ++stops > kMany)
      break;
    // What was posted waits; what is stood before is so still.
    if (stop.why == machine::Stop::Why::kRequested)
      core_.attention_ = false;
    else
      stands = stop.why == machine::Stop::Why::kBreakpoint;
  }
  for (const std::uint32_t writer : writers)
    (void)machine().set_breakpoint(writer, false).has_value();
  if (address) (void)machine().watch(*address, 0).has_value();
  if (crowded != nullptr) *crowded = stops > kMany;
  return found;
}

Result<std::optional<Session::Core::Origins::Write>> Session::Core::Origins::last_write(
    const Cell& cell, const record::Moment& at) {
  std::optional<Write> found;
  constexpr std::uint64_t kStepped = 8'192;
  bool near = true;
  core_.come_near(at);
  const auto look = [&](const record::Moment& until) -> std::optional<record::Moment> {
    const Point start{core_.now(), std::shared_ptr<const machine::Machine>(machine().clone())};
    // What was not near is written seldom: a stretch in one go, or else from its end.
    if (!std::exchange(near, false)) {
      bool crowded = false;
      core_.acts_until_ = at.acts;
      found = watch_through(cell, {until.tick, at.acts}, at, &crowded);
      if (found && !crowded) return found->after;
      if (!crowded || core_.pause_requested_) return std::nullopt;
      core_.restore(start);
    }
    constexpr std::uint64_t kFirst = 256, kTimes = 8;
    std::uint64_t behind = until.tick;  // has been looked through
    for (std::uint64_t window = kFirst;; window *= kTimes) {
      const bool all = until.tick - start.at.tick <= window;
      core_.acts_until_ = at.acts;
      machine::RunRequest request;
      request.until_ticks = all ? 0 : until.tick - window;
      while (machine().ticks() < request.until_ticks && !core_.pause_requested_)
        if (core_.run(request).stop.why != machine::Stop::Why::kTime) break;
      const std::uint64_t from = machine().ticks();
      const record::Moment end{behind, at.acts};
      // A few instructions are gone through one by one.
      found = cell.kind == Cell::Kind::kMemory || window > kStepped ? watch_through(cell, end, at)
                                                                    : step_through(cell, end, at);
      if (found) return found->after;
      if (all || core_.pause_requested_) return std::nullopt;
      behind = std::min(behind, from);
      core_.restore(start);
    }
  };
  const auto moment = core_.latest(at, look);
  if (!moment) return fail(moment.error());
  return found;
}

/// A person's change of the cell, behind its last write.
const record::Act* Session::Core::Origins::edit_since(const Cell& cell, const record::Moment& since,
                                                      const record::Moment& at) const {
  const auto& acts = core_.timeline_.acts();
  for (std::size_t i = std::min(at.acts, acts.size()); i-- > since.acts;)
    for (const machine::Edit& edit : acts[i].edits) {
      const bool memory =
          edit.kind == machine::Edit::Kind::kPoke || edit.kind == machine::Edit::Kind::kStore;
      const bool same = memory ? cell.kind == Cell::Kind::kMemory && cell.address == edit.address
                               : edit.kind == machine::Edit::Kind::kRegister &&
                                     cell.kind == Cell::Kind::kRegister &&
                                     machine().target().registers()[edit.index].dwarf ==
                                         static_cast<int>(cell.number);
      if (same) return &acts[i];
    }
  return nullptr;
}

bool Session::Core::Origins::is_io(const Address& address) const {
  const MemoryArea* io = machine().area("io");
  return io != nullptr && address.space == io->space && address.offset >= io->begin &&
         address.offset < io->end;
}

Result<Session::Core::Origins::End> Session::Core::Origins::trace(Cell cell, record::Moment at,
                                                                  bool one_move) {
  End end;
  for (unsigned moves = 0; moves < kMostMoves; ++moves) {
    end.cell = cell;
    end.before = at;
    const auto write = last_write(cell, at);
    if (!write) return fail(write.error());
    const record::Moment since = *write ? (*write)->after : record::Moment{};
    if (const record::Act* edit = edit_since(cell, since, at)) {
      end.how = How::kEdit;
      end.before = {edit->tick, static_cast<std::size_t>(edit - core_.timeline_.acts().data())};
      core_.restore_at(end.before);
      end.pc = machine().pc();
      return end;
    }
    if (!*write) {
      end.how = How::kStart;
      core_.restore_at(core_.timeline_.first()->at);
      end.before = core_.now();
      end.pc = machine().pc();
      return end;
    }
    const auto before = core_.boundary_before((*write)->after);
    if (!before) return fail(before.error());
    if (!*before) return end;
    core_.restore_at(**before);
    end.before = **before;
    end.pc = machine().pc();
    const Instruction instruction = machine().instruction_at(end.pc);
    const bool executes = end.pc == (*write)->pc && !machine().interrupt_imminent();
    const Making making =
        executes ? machine().target().making(machine(), instruction, cell) : Making{};
    switch (making.how) {
      case Making::How::kNot: end.how = executes ? How::kHardware : How::kInterrupt; return end;
      case Making::How::kConstant: end.how = How::kConstant; return end;
      case Making::How::kWorked:
        end.how = How::kWorked;
        end.from = making.from;
        return end;
      case Making::How::kMoved:
        // What an I/O register is written with is not always what it then holds.
        if (is_io_of(cell) && making.from.size() == 1 &&
            making.from[0].kind == Cell::Kind::kRegister) {
          const auto index = machine().find_dwarf_register(static_cast<int>(making.from[0].number));
          const std::uint64_t stored = index ? machine().register_value(*index) : 0;
          core_.restore_at((*write)->after);
          const auto held = machine().peek(cell.address);
          core_.restore_at(**before);
          if (held && *held != stored) {
            end.how = How::kHardware;
            return end;
          }
        }
        break;
    }
    const Cell& from = making.from.front();
    if (from.kind == Cell::Kind::kMemory &&
        (from.address.space != Space::kData || is_io(from.address))) {
      end.how = from.address.space == Space::kData ? How::kInput : How::kFlash;
      end.from = making.from;
      return end;
    }
    if (one_move) {
      end.how = How::kMoved;
      end.from = making.from;
      return end;
    }
    cell = from;
    at = **before;
  }
  return end;
}

/// What the program calls a cell, where the machine stands: at its innermost level.
Session::Core::Origins::Named Session::Core::Origins::named(const Cell& cell) const {
  Named out;
  out.cells = {cell};
  out.at = core_.now();
  const frames::Scope here = core_.scope();
  const auto& registers = machine().target().registers();
  const auto holds = [&](const frames::Piece& piece) {
    if (piece.kind == frames::Piece::Kind::kRegister && cell.kind == Cell::Kind::kRegister)
      return registers[piece.index].dwarf == static_cast<int>(cell.number);
    return piece.kind == frames::Piece::Kind::kMemory && cell.kind == Cell::Kind::kMemory &&
           piece.address == cell.address;
  };
  for (const Local* local : frames::locals_of(here)) {
    const auto found = frames::find_place(*local, here);
    if (!found) continue;
    const frames::Place& place = found->place;
    const bool in_memory =
        place.kind == frames::Place::Kind::kMemory && cell.kind == Cell::Kind::kMemory &&
        place.address.space == cell.address.space && cell.address.offset >= place.address.offset &&
        cell.address.offset < place.address.offset + place.bytes;
    if (!in_memory && std::none_of(place.pieces.begin(), place.pieces.end(), holds)) continue;
    auto expression = expression::Expression::parse(local->name, here);
    if (!expression) continue;
    const auto value = expression->evaluate(here);
    if (!value) continue;
    out.name = local->name;
    for (const frames::Piece& piece : place.pieces)
      if (piece.kind == frames::Piece::Kind::kRegister)
        out.all.push_back(
            {Cell::Kind::kRegister, static_cast<unsigned>(registers[piece.index].dwarf), {}});
    out.whole = in_memory ? bytes_of(value->place) : out.all;
    out.value = expression::written(*value, {}, here);
    return out;
  }
  if (cell.kind == Cell::Kind::kFlag) {
    const std::string letters = machine().flag_letters();
    out.name = fmt::format("flag {}", letters[letters.size() - 1 - cell.number]);
    out.value = std::to_string(machine().flags() >> cell.number & 1U);
    out.is_object = false;
    return out;
  }
  if (cell.kind == Cell::Kind::kRegister) {
    const auto index = machine().find_dwarf_register(static_cast<int>(cell.number));
    out.name = index ? registers[*index].name : "?";
    if (index) out.value = fmt::format("{:#04x}", machine().register_value(*index));
    out.is_object = false;
    return out;
  }
  const std::uint32_t offset = cell.address.offset;
  if (cell.address.space == Space::kCode) {
    out.name = fmt::format("flash at {}", core_.place_name(offset));
    return out;
  }
  unsigned widest = 0;
  for (const IoRegister& io : machine().info().io)
    if (is_io(cell.address) && offset >= io.address && offset < io.address + io.bytes &&
        io.bytes > widest) {
      out.name = io.name;
      widest = io.bytes;
    }
  if (out.name.empty()) out.name = core_.data_name(offset);
  if (const std::size_t plus = out.name.find(" + "); plus != std::string::npos) {
    const std::string whole = out.name.substr(0, plus);  // a further byte of a number
    if (auto expression = expression::Expression::parse(whole, here))
      if (const auto value = expression->evaluate(here);
          value && value->value.kind != Value::Kind::kAggregate)
        out.name = whole;
  }
  if (out.name.empty()) {
    out.name = fmt::format("ram {:#06x}", offset);
    out.is_object = false;
  }
  if (auto expression = expression::Expression::parse(out.name, here))
    if (const auto value = expression->evaluate(here);
        value && value->value.kind != Value::Kind::kAggregate) {
      out.value = expression::written(*value, {}, here);
      if (out.is_object && cell.kind == Cell::Kind::kMemory && !is_io(cell.address))
        out.whole = bytes_of(value->place);
      return out;
    }
  if (const auto byte = machine().peek(cell.address)) out.value = fmt::format("{:#04x}", *byte);
  return out;
}

bool Session::Core::Origins::is_same_line(std::uint32_t a, std::uint32_t b) const {
  const auto of = [&](std::uint32_t pc) {
    const auto line = core_.program_.line_at(pc);
    return std::tuple(core_.program_.function_at(pc), line ? line->file : 0, line ? line->line : 0);
  };
  return of(a) == of(b);
}

/// A variable in registers as it was before a line began to work on its other bytes.
Result<void> Session::Core::Origins::before_this_line(Named& name, std::uint32_t pc) {
  for (const Cell& byte : std::vector<Cell>(name.all)) {
    const auto made = trace(byte, name.at, true);
    if (!made) return fail(made.error());
    if (made->how != How::kWorked || !is_same_line(made->pc, pc)) continue;
    core_.restore_at(made->before);
    const Named then = named(name.cells[0]);
    if (then.name != name.name) continue;
    name.value = then.value;
    name.at = then.at;
  }
  return {};
}

Result<std::vector<Session::Core::Origins::Named>> Session::Core::Origins::fed(const End& end) {
  std::vector<Named> out;
  std::deque<std::pair<Cell, record::Moment>> waiting;
  std::set<std::pair<Cell, record::Moment>> seen;
  for (const Cell& cell : end.from) waiting.emplace_back(cell, end.before);
  const auto add = [&](Named name) {
    const auto same = std::find_if(out.begin(), out.end(),
                                   [&](const Named& other) { return other.name == name.name; });
    if (same == out.end())
      out.push_back(std::move(name));
    else {
      if (name.at < same->at) std::tie(same->value, same->at) = std::tie(name.value, name.at);
      if (std::find(same->cells.begin(), same->cells.end(), name.cells[0]) == same->cells.end())
        same->cells.insert(std::upper_bound(same->cells.begin(), same->cells.end(), name.cells[0]),
                           name.cells[0]);
    }
  };
  for (std::size_t looked = 0; !waiting.empty() && looked < kMostFeeders; ++looked) {
    const auto [cell, at] = waiting.front();
    waiting.pop_front();
    if (!seen.insert({cell, at}).second) continue;
    auto made = trace(cell, at, true);
    if (!made) return fail(made.error());
    // What this line has worked with is not what a variable held before it.
    const bool own = cell.kind != Cell::Kind::kMemory && is_same_line(made->pc, end.pc) &&
                     (made->how == How::kWorked || made->how == How::kMoved);
    core_.restore_at(at);
    Named name = named(cell);
    if (!own && name.is_object) {
      if (auto done = before_this_line(name, end.pc); !done) return fail(done.error());
      add(std::move(name));
    } else if (made->how == How::kMoved) {
      waiting.emplace_back(made->from.front(), made->before);
    } else if (made->how == How::kWorked) {
      for (const Cell& more : made->from) waiting.emplace_back(more, made->before);
    } else if (made->how == How::kInput || made->how == How::kFlash) {
      core_.restore_at(made->before);
      add(named(made->from.front()));
    } else if (made->how != How::kConstant) {
      add(std::move(name));
    }
  }
  // What is told is the value of the whole object.
  for (Named& name : out)
    if (!name.whole.empty()) name.cells = name.whole;
  return out;
}

/// REQUIRES: the machine stands before the instruction.
OriginNode Session::Core::Origins::node(const End& end, const std::vector<Named>& from) {
  OriginNode out;
  out.how = end.how;
  out.time = to_time(end.before.tick, machine().info().clock_hz);
  out.where = core_.location(end.pc);
  if (out.where.line == 0)  // a helper of the compiler: what has called it
    for (const CallLevel& level : core_.callers())
      if (level.where.line != 0) out.called_from = level.where;
  if (end.how != How::kStart && end.how != How::kEdit && end.how != How::kInterrupt) {
    const Instruction instruction = machine().instruction_at(end.pc);
    out.instruction =
        instruction.mnemonic + (instruction.operands.empty() ? "" : " " + instruction.operands);
  }
  for (const Named& name : from) out.from.push_back({name.name, name.value});
  return out;
}

Result<void> Session::Core::Origins::tree(const std::string& object, const std::string& value,
                                          const std::vector<Cell>& cells, const record::Moment& at,
                                          unsigned depth, unsigned most) {
  std::vector<End> ends;
  for (const Cell& cell : cells) {
    auto end = trace(cell, at);
    if (!end) return fail(end.error());
    // Bytes that are made by one piece of work are one.
    const auto same = std::find_if(ends.begin(), ends.end(), [&](const End& other) {
      const auto apart = other.before.tick > end->before.tick
                             ? other.before.tick - end->before.tick
                             : end->before.tick - other.before.tick;
      return other.how == end->how && apart <= kOneWork && is_same_line(other.pc, end->pc);
    });
    if (same == ends.end()) {
      ends.push_back(std::move(*end));
      continue;
    }
    std::vector<Cell> from = same->from;
    for (const Cell& c : end->from)
      if (std::find(from.begin(), from.end(), c) == from.end()) from.push_back(c);
    if (same->before < end->before && end->how != How::kConstant) *same = std::move(*end);
    same->from = std::move(from);
  }
  for (const End& end : ends) {
    if (nodes.size() >= kMostNodes) {
      cut = true;
      return {};
    }
    const auto from = fed(end);
    if (!from) return fail(from.error());
    core_.restore_at(end.before);
    OriginNode made = node(end, *from);
    made.depth = depth;
    made.object = object;
    made.value = value;
    nodes.push_back(std::move(made));
    moments.push_back(end.before);
    if (end.how != How::kWorked || depth + 1 >= most) continue;
    for (const Named& name : *from)
      if (auto done = tree(name.name, name.value, name.cells, name.at, depth + 1, most); !done)
        return done;
  }
  return {};
}

Result<OriginView> Session::Core::origin(const std::string& object, unsigned depth) {
  const frames::Scope here = scope();
  auto expression = expression::Expression::parse(object, here);
  if (!expression) return fail(expression.error());
  const auto operand = expression->evaluate(here);
  if (!operand) return fail(operand.error());
  const frames::Place& place = operand->place;
  if (place.kind == frames::Place::Kind::kPin)
    return pin_origin(object, place.pin, std::max(1U, depth));
  std::vector<Cell> cells;
  const int sp = machine().target().convention().sp_dwarf;
  const auto add_register = [&](unsigned index) {
    const int dwarf = machine().target().registers()[index].dwarf;
    if (dwarf >= 0 && dwarf != sp)
      cells.push_back({Cell::Kind::kRegister, static_cast<unsigned>(dwarf), {}});
  };
  switch (place.kind) {
    case frames::Place::Kind::kMemory:
      if (operand->value.kind == Value::Kind::kAggregate || place.bytes > kMostBytes)
        return fail(ErrorCode::kUsage, fmt::format("'{}' has many parts", object),
                    "ask for a member or an element");
      for (std::uint32_t i = 0; i < place.bytes; ++i)
        cells.push_back({Cell::Kind::kMemory, 0, {place.address.space, place.address.offset + i}});
      break;
    case frames::Place::Kind::kRegister: add_register(place.index); break;
    case frames::Place::Kind::kFlag: cells.push_back({Cell::Kind::kFlag, place.index, {}}); break;
    case frames::Place::Kind::kPieces:
      for (const frames::Piece& piece : place.pieces) {
        if (piece.kind == frames::Piece::Kind::kRegister) add_register(piece.index);
        if (piece.kind == frames::Piece::Kind::kMemory)
          cells.push_back({Cell::Kind::kMemory, 0, piece.address});
      }
      break;
    default: break;
  }
  if (cells.empty() || cells.size() > kMostBytes)
    return fail(ErrorCode::kUsage, fmt::format("'{}' has no place that could be followed", object),
                "name a variable, a register, a flag, an I/O register or a byte of memory");
  if (timeline_.first() == nullptr) return no_past();
  const std::string value = expression::written(*operand, {}, here);
  const record::Moment present = now();
  begin_back();
  const auto kept = keep();
  OriginView out;
  Result<void> done;
  {
    const Quiet quiet(*this);
    Origins origins(*this);
    done = origins.tree(object, value, cells, present, 0, std::max(1U, depth));
    out.nodes = std::move(origins.nodes);
    out.cut = origins.cut;
    origin_moments_ = std::move(origins.moments);
  }
  const bool asked = pause_requested_.exchange(false);
  running_ = false;
  (void)return_to(*kept).has_value();
  out.interrupted = asked || !done;
  return out;
}

Result<Pause> Session::Core::back_to_origin(std::size_t number) {
  if (number == 0 || number > origin_moments_.size())
    return fail(ErrorCode::kNotFound, fmt::format("there is no origin {}", number),
                "`origin OBJECT` makes the list");
  begin_back();
  return arrive(origin_moments_[number - 1], Pause::Cause::kArrived,
                fmt::format("origin {}", number));
}

Result<std::vector<Session::Write>> Session::Core::history(const std::string& object,
                                                           std::size_t most) {
  const frames::Scope here = scope();
  if (auto expression = expression::Expression::parse(object, here))
    if (const auto operand = expression->evaluate(here);
        operand && operand->place.kind == frames::Place::Kind::kPin)
      return pin_history(object, operand->place.pin, most);
  Entry entry;
  entry.point.id = UINT32_MAX;
  entry.point.spec.kind = BreakpointSpec::Kind::kWrite;
  entry.point.spec.place = object;
  if (auto bound = bind(entry); !bound) return fail(bound.error());
  const record::Moment present = now();
  if (timeline_.first() == nullptr) return no_past();
  begin_back();
  const auto kept = keep();
  std::deque<std::pair<record::Moment, Write>> rows;
  Result<std::optional<record::Moment>> done;
  {
    const Quiet quiet(*this);
    breakpoints_.push_back(std::move(entry));
    done = latest(present, [&](const record::Moment& until) -> std::optional<record::Moment> {
      std::vector<std::pair<record::Moment, Write>> found;
      set_back(breakpoints_.back());
      acts_until_ = until.acts;
      sync_marks();
      machine::RunRequest request;
      request.until_ticks = until.tick;
      const auto run_on = [&] {
        const Outcome outcome = run(request);
        stood_at_ = {machine().pc(), machine().ticks()};
        if (!outcome.data) return;
        Write row{to_time(machine().ticks(), machine().info().clock_hz), *outcome.data};
        found.emplace_back(now(), std::move(row));
      };
      while (machine().ticks() < until.tick && !pause_requested_) run_on();
      // What has begun to be stored is stored whole, behind the copy.
      acts_until_ = present.acts;
      request.until_ticks = present.tick;
      while (object_under_way() && machine().ticks() < present.tick && !pause_requested_) run_on();
      while (!rows.empty() && rows.front().first <= now() && !found.empty() &&
             !(found.back().first < rows.front().first))
        rows.pop_front();
      for (auto row = found.rbegin(); row != found.rend(); ++row) rows.push_front(std::move(*row));
      return rows.size() >= most ? std::optional<record::Moment>(now()) : std::nullopt;
    });
    breakpoints_.pop_back();
    sync_marks();
  }
  pause_requested_ = false;
  running_ = false;
  (void)return_to(*kept).has_value();
  while (rows.size() > most) rows.pop_front();
  std::vector<Write> out;
  history_moments_.clear();
  for (auto& [moment, row] : rows) {
    history_moments_.push_back(moment);
    out.push_back(std::move(row));
  }
  return out;
}

Result<Pause> Session::Core::back_to_history(std::size_t number) {
  if (number == 0 || number > history_moments_.size())
    return fail(ErrorCode::kNotFound, fmt::format("there is no row {}", number),
                "`history OBJECT` makes the list");
  begin_back();
  return arrive(history_moments_[number - 1], Pause::Cause::kArrived,
                fmt::format("row {}", number));
}

}  // namespace lucid
