// SPDX-License-Identifier: MIT
// Accesses: which static objects an instruction stands in the middle of, and what handlers do to
// them, read off the code.
#ifndef LUCID_SESSION_ACCESSES_H
#define LUCID_SESSION_ACCESSES_H

#include <array>
#include <map>
#include <set>
#include <string>
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

  explicit Accesses(const Core& core) : core_(core) {}

  /// Good until forget().
  const std::vector<Open>& open_at(std::uint32_t pc);
  /// By a handler and what it calls, as far as addresses are fixed.
  const std::vector<Access>& of(unsigned vector);
  /// By an instruction, as far as its address is fixed.
  [[nodiscard]] std::optional<Access> at(const Function& function, unsigned node);
  /// Where the handler of a vector begins.
  [[nodiscard]] std::uint32_t handler(unsigned vector) const;
  /// Its own: others hold on to theirs.
  frames::Flows& flows() { return flows_; }
  void forget();

 private:
  struct Seen {
    Access access;
    unsigned file = 0, line = 0;
  };

  [[nodiscard]] std::vector<Open> find_open(std::uint32_t pc);
  template <class IsPart>
  [[nodiscard]] std::vector<Access> split_parts(const std::vector<Seen>& all, std::size_t split,
                                                std::size_t index, std::uint32_t bytes,
                                                const IsPart& is_part);
  [[nodiscard]] std::optional<Object> object_at(std::uint32_t address) const;
  [[nodiscard]] std::optional<Object> part_at(const std::string& name, unsigned type,
                                              std::uint32_t begin, std::uint32_t address,
                                              unsigned depth) const;
  [[nodiscard]] bool is_read_again(const Function& function, const Object& object,
                                   std::uint32_t pc);
  void collect(std::uint32_t begin, std::set<std::uint32_t>& seen, std::vector<Access>& out);
  /// Of a function, by node: which byte it accesses, if that is fixed.
  using Fixed = std::vector<std::optional<machine::Target::FixedAccess>>;
  const Fixed& fixed_in(const Function& function);

  const Core& core_;
  struct Recent {
    std::uint32_t pc = 0;
    const std::vector<Open>* open = nullptr;
  };
  std::array<Recent, 256> recent_{};                 ///< of open_
  std::map<std::uint32_t, std::vector<Open>> open_;  ///< by instruction
  std::map<std::uint32_t, Fixed> fixed_;             ///< by a function's begin
  std::map<unsigned, std::vector<Access>> by_vector_;
  frames::Flows flows_;
};

}  // namespace lucid

#endif  // LUCID_SESSION_ACCESSES_H
