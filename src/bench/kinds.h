// SPDX-License-Identifier: MIT
// The kinds of parts that a bench file can name.
#ifndef LUCID_BENCH_KINDS_H
#define LUCID_BENCH_KINDS_H

#include <memory>
#include <string>
#include <vector>

#include "bench/keys.h"
#include "lucid/part.h"

namespace lucid::bench {

/// Where a part finds other files.
struct Surroundings {
  std::string folder;
};

struct Kind {
  const char* name;
  const char* keys;  ///< for people
  /// Reads its keys; the part is of use only if Keys::finish() is content.
  std::shared_ptr<const Part> (*make)(const std::string& name, Keys& keys,
                                      const Surroundings& around);
};

const std::vector<Kind>& kinds();

/// Something that happens from outside at a time.
struct Input {
  std::uint64_t at = 0;           ///< picoseconds
  std::string pin, serial, part;  ///< what it is done to
  std::optional<bool> level;      ///< with pin: nullopt lets go
  std::optional<std::int32_t> microvolts;
  std::string bytes;  ///< with serial
  std::optional<SerialFrame> frame;
  std::optional<TwoWireTransfer> transfer;
  bool reset = false;         ///< the reset pin, for a moment
  std::string action, value;  ///< with part
};
/// All of them as one part. REQUIRES: sorted by time.
std::shared_ptr<const Part> timed_inputs(std::vector<Input> inputs);

}  // namespace lucid::bench

#endif  // LUCID_BENCH_KINDS_H
