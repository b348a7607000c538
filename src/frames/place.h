// SPDX-License-Identifier: MIT
// Where a value is: a place in the machine, and how the place of a local is found at a call level.
#ifndef LUCID_FRAMES_PLACE_H
#define LUCID_FRAMES_PLACE_H

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "frames/flow.h"
#include "lucid/program.h"
#include "lucid/value.h"
#include "machine/machine.h"

namespace lucid::frames {

/// What can be read off recorded signals: widths, periods, delays.
class Measures {
 public:
  virtual ~Measures() = default;
  struct Measured {
    Value last, least, most;
  };
  [[nodiscard]] virtual Result<Measured> measure(
      const std::string& function, const std::vector<std::string>& arguments) const = 0;
  /// `width(SIGNAL, high|low)` and so on.
  [[nodiscard]] static const std::vector<std::pair<std::string, std::string>>& functions();
};

/// The programs of the chips beside the one that is looked at.
class OtherPrograms {
 public:
  virtual ~OtherPrograms() = default;
  struct Known {
    const Program* program;
    Flows* flows;
    std::optional<std::uint32_t> static_end;
  };
  /// Good as long as this is. nullopt: there is no such chip, or nothing is known of its program.
  [[nodiscard]] virtual std::optional<Known> find(const std::string& chip) const = 0;
};

/// What names are looked up in.
struct Scope {
  const Program& program;
  const machine::Machine& machine;
  Flows& flows;
  std::optional<std::uint32_t> static_end;     ///< end of static data in data space, if known
  unsigned level = 0;                          ///< call level counted from the innermost, 0
  std::optional<std::uint32_t> names_at = {};  ///< whose locals are meant; otherwise the level's
  bool as_described = false;      ///< take places of locals as they are described, right or not
  bool looking_at_place = false;  ///< for another local's sake
  bool globals_only = false;      ///< names do not mean locals
  bool at_one_place = false;      ///< what is parsed is worked out only where the machine stands
  bool without_hints = false;     ///< whoever asks does not tell what is wrong
  const Measures* measures = nullptr;
  const OtherPrograms* others = nullptr;  ///< null: only the chips themselves are known
};

/// A byte of a value that is spread over registers and memory.
struct Piece {
  enum class Kind : std::uint8_t { kUnknown, kMemory, kRegister, kConstant } kind = Kind::kUnknown;
  unsigned index = 0;  ///< of the register, or the constant byte
  Address address;
  unsigned byte = 0;  ///< which one of the register, the lowest is 0
};

/// Where a value can be stored.
struct Place {
  enum class Kind : std::uint8_t {
    kNone,
    kMemory,
    kRegister,
    kFlag,
    kPin,
    kPieces
  } kind = Kind::kNone;
  Address address;     ///< kMemory
  unsigned index = 0;  ///< register, or bit number of a flag
  std::uint8_t bytes = 1;
  std::uint8_t bit_offset = 0;  ///< within the bytes
  std::uint8_t bit_size = 0;    ///< 0: all of them
  std::string pin;
  std::vector<Piece> pieces;  ///< kPieces: lowest byte first
};

/// The byte at an offset into a place; nullopt if it has no memory or cannot be told.
std::optional<std::uint8_t> byte_of(const Place& place, std::uint32_t offset,
                                    const machine::Machine& machine);

/// The parameters and locals that the scope's call level can see, innermost first.
std::vector<const Local*> locals_of(const Scope& scope);

/// The address whose locals a scope means.
std::uint32_t names_address(const Scope& scope);

/// Where a local lives in the scope's call level.
struct LocalPlace {
  Place place;
  const Local* shares_with = nullptr;  ///< another one in scope that lies in the same bytes
};
/// Error: kNotFound, with why it cannot be told: out of scope, optimised away, not set,
/// overwritten.
Result<LocalPlace> find_place(const Local& local, const Scope& scope);

}  // namespace lucid::frames

#endif  // LUCID_FRAMES_PLACE_H
