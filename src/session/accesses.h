// SPDX-License-Identifier: MIT
// Accesses: which static objects an instruction stands in the middle of, and what handlers do to
// them, read off the code.
#ifndef LUCID_SESSION_ACCESSES_H
#define LUCID_SESSION_ACCESSES_H

#include <array>
#include <functional>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <unordered_map>
#include <vector>

#include "session/core.h"

namespace lucid {

class Session::Core::Accesses {
 public:
  /// A number, or another object that an instruction cannot load or store at once.
  struct Object {
    std::string name;
    std::uint32_t begin = 0, bytes = 0;
    bool io = false;  ///< a register that the hardware may change, too
    [[nodiscard]] bool holds(std::uint32_t address) const {
      return address >= begin && address - begin < bytes;
    }
  };
  struct Access {
    std::uint32_t address = 0, pc = 0;
    bool write = false;
  };
  /// An object that has been accessed in part when an instruction is about to execute, and will be.
  struct Open {
    Object object;
    enum class How : std::uint8_t { kReads, kWrites, kChanges } how = How::kReads;
    bool again = false;         ///< it is read twice until that is equal
    std::vector<Access> parts;  ///< its accesses, in their order
  };

  explicit Accesses(const Core& core);

  /// Where addresses are fixed. Good until forget().
  const std::vector<Open>& open_at(std::uint32_t pc);
  /// With those through pointers that are in registers then, as far as the handler of a vector may
  /// touch such objects. `registers`: general ones, by DWARF number.
  std::shared_ptr<const std::vector<Open>> open_at(std::uint32_t pc, unsigned vector,
                                                   const std::uint8_t* registers);
  /// By a handler and what it calls, as far as addresses are fixed.
  const std::vector<Access>& of(unsigned vector);
  /// Does such code store through pointers, or call what is not known?
  [[nodiscard]] bool stores_anywhere(unsigned vector);
  /// By an instruction, as far as its address is fixed.
  [[nodiscard]] std::optional<Access> at(const Function& function, unsigned node);
  /// Where the handler of a vector begins.
  [[nodiscard]] std::uint32_t handler(unsigned vector) const;
  /// Its own: others hold on to theirs.
  frames::Flows& flows() { return flows_; }
  void forget();

 private:
  struct Handler {
    std::vector<Access> accesses;
    bool stores_anywhere = false;
    bool may_nest = false;  ///< it turns interrupts on
    enum class Touches : std::uint8_t { kUnknown, kNo, kYes };
    std::vector<Touches> touches;  ///< by address: does it access the object there?
  };
  struct Seen {
    Access access;
    unsigned file = 0, line = 0;
    int pointer = -1;  ///< DWARF number of the register that `address` counts from; -1: it is fixed
  };
  /// What executes around an instruction as far as there is one way: accesses in their order, those
  /// from `split` on still to come.
  struct Change {
    Seen load;
    Access store;  ///< of what has been made from that
  };
  struct Way {
    std::vector<Seen> all;
    std::size_t split = 0;
    std::vector<Change> changes;  ///< that are under way
    /// Through which pointers, and how far from what they hold; each once.
    std::vector<std::pair<int, std::uint32_t>> through;
  };
  [[nodiscard]] bool meets(Handler& handler, const Way& way, const std::uint8_t* registers) const;
  [[nodiscard]] std::uint32_t pointed_by(const std::uint8_t* registers, int pointer,
                                         std::uint32_t offset) const;
  [[nodiscard]] std::uint64_t held_in(int pointer) const;
  const Way& way_at(std::uint32_t pc);
  [[nodiscard]] Way find_way(std::uint32_t pc);
  struct Step {
    std::uint64_t reads = 0, writes = 0;  ///< registers
    bool accesses = false;                ///< the byte
    bool loses = false;                   ///< it leads elsewhere, or the pointer does
    std::optional<Access> store;
  };
  [[nodiscard]] std::vector<Change> changes_at(const Function& function, unsigned here);
  [[nodiscard]] Step step_of(const Function& function, unsigned node, const Seen& load);
  [[nodiscard]] std::uint64_t made_from(const Function& function, unsigned from, const Seen& load,
                                        unsigned here);
  [[nodiscard]] std::optional<Access> store_of(const Function& function, const Seen& load,
                                               std::uint64_t made, unsigned here);
  [[nodiscard]] std::optional<Seen> seen_at(const Function& function, unsigned node);
  [[nodiscard]] std::vector<Open> find_open(std::uint32_t pc, const Way& way);
  template <class IsPart>
  [[nodiscard]] std::vector<Access> split_parts(const std::vector<Seen>& all, std::size_t split,
                                                std::size_t index, std::uint32_t bytes,
                                                const IsPart& is_part);
  [[nodiscard]] std::optional<Object> object_at(std::uint32_t address) const;
  [[nodiscard]] std::optional<Object> part_at(const std::string& name, unsigned type,
                                              std::uint32_t begin, std::uint32_t address,
                                              unsigned depth) const;
  [[nodiscard]] bool is_read_again(const Object& object, std::uint32_t pc);
  void collect(std::uint32_t begin, std::set<std::uint32_t>& seen, Handler& out);
  /// Of a function, by node: which byte it accesses, if that is fixed.
  using Fixed = std::vector<std::optional<machine::Target::FixedAccess>>;
  const Fixed& fixed_in(const Function& function);

  const Core& core_;
  const unsigned pointer_bytes_;
  struct Recent {
    std::uint32_t pc = 0;
    const std::vector<Open>* open = nullptr;
    const Way* way = nullptr;
  };
  std::array<Recent, 256> recent_{};                 ///< of open_
  std::map<std::uint32_t, Way> ways_;                ///< by instruction
  std::map<std::uint32_t, std::vector<Open>> open_;  ///< the same
  /// And by where their pointers lead.
  struct Pointed {
    std::uint32_t pc = 0;
    std::vector<std::uint32_t> addresses;
    bool operator==(const Pointed& other) const {
      return pc == other.pc && addresses == other.addresses;
    }
    struct Hash {
      std::size_t operator()(const Pointed& pointed) const {
        std::size_t out = pointed.pc;
        for (const std::uint32_t address : pointed.addresses) out = 31 * out + address;
        return out;
      }
    };
  };
  std::unordered_map<Pointed, std::shared_ptr<const std::vector<Open>>, Pointed::Hash> pointed_;
  Pointed looked_for_;
  std::map<std::uint32_t, Fixed> fixed_;  ///< by a function's begin
  Handler& handler_of(unsigned vector);
  std::vector<std::unique_ptr<Handler>> by_vector_;
  frames::Flows flows_;
};

}  // namespace lucid

#endif  // LUCID_SESSION_ACCESSES_H
