// SPDX-License-Identifier: MIT
// The kinds of parts that a bench file can name.
#ifndef LUCID_BENCH_KINDS_H
#define LUCID_BENCH_KINDS_H

#include <memory>
#include <string>
#include <vector>

#include "bench/keys.h"
#include "lucid/input.h"
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

/// All of them as one part. REQUIRES: sorted by time.
std::shared_ptr<const Part> timed_inputs(std::vector<Input> inputs);

}  // namespace lucid::bench

#endif  // LUCID_BENCH_KINDS_H
