// SPDX-License-Identifier: MIT
// Origins: where the values of bytes have come from.
#ifndef LUCID_SESSION_ORIGINS_H
#define LUCID_SESSION_ORIGINS_H

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "machine/making.h"
#include "session/core.h"

namespace lucid {

/// Follows values back. REQUIRES: a Quiet.
class Session::Core::Origins {
 public:
  explicit Origins(Core& core) : core_(core) {}

  using How = OriginNode::How;
  struct End {
    How how = How::kUnknown;
    machine::Cell cell;     ///< that was written there
    record::Moment before;  ///< the instruction
    std::uint32_t pc = 0;
    std::vector<machine::Cell> from;
  };
  /// Where the byte that a cell holds at a moment was made. Error: somebody asked for a pause.
  /// With `one_move`, only to where it was before it was moved last.
  Result<End> trace(machine::Cell cell, record::Moment at, bool one_move = false);
  /// The nodes of an object made of these cells, and of what fed it.
  Result<void> tree(const std::string& object, const std::string& value,
                    const std::vector<machine::Cell>& cells, const record::Moment& at,
                    unsigned depth, unsigned most);

  std::vector<OriginNode> nodes;
  std::vector<record::Moment> moments;
  bool cut = false;

 private:
  struct Write {
    record::Moment after;
    std::uint32_t pc = 0;
  };
  [[nodiscard]] machine::Machine& machine() const { return core_.machine(); }
  Result<std::optional<Write>> last_write(const machine::Cell& cell, const record::Moment& at);
  std::optional<Write> step_through(const machine::Cell& cell, const record::Moment& until,
                                    const record::Moment& at);
  /// The addresses of all instructions that write a register or flag.
  const std::vector<std::uint32_t>& writers_of(const machine::Cell& cell);
  std::map<machine::Cell, std::vector<std::uint32_t>> writers_;
  std::optional<Write> watch_through(const machine::Cell& cell, const record::Moment& until,
                                     const record::Moment& at, bool* crowded = nullptr);
  [[nodiscard]] const record::Act* edit_since(const machine::Cell& cell,
                                              const record::Moment& since,
                                              const record::Moment& at) const;
  [[nodiscard]] bool is_io(const Address& address) const;
  [[nodiscard]] bool is_io_of(const machine::Cell& cell) const {
    return cell.kind == machine::Cell::Kind::kMemory && is_io(cell.address);
  }
  struct Named {
    std::string name, value;
    std::vector<machine::Cell> cells;
    record::Moment at;
    std::vector<machine::Cell> all = {};    ///< of a variable in registers
    std::vector<machine::Cell> whole = {};  ///< all bytes of the object, if it is a number
    bool is_object = true;                  ///< of the program; else a register or byte on the way
  };
  [[nodiscard]] Named named(const machine::Cell& cell) const;
  /// What has fed a piece of work, by name: what its line has only kept for itself is looked
  /// through.
  Result<std::vector<Named>> fed(const End& end);
  Result<void> before_this_line(Named& name, std::uint32_t pc);
  [[nodiscard]] bool is_same_line(std::uint32_t a, std::uint32_t b) const;
  OriginNode node(const End& end, const std::vector<Named>& from);

  Core& core_;
};

}  // namespace lucid

#endif  // LUCID_SESSION_ORIGINS_H
