// SPDX-License-Identifier: MIT
// Programs that nobody here wrote, out of a Debian package that carries source: the compiler's own
// execution tests (gcc-12-source), built for several chips in many ways.
#ifndef LUCID_TESTS_STRANGERS_H
#define LUCID_TESTS_STRANGERS_H

#include <optional>
#include <string>
#include <vector>

#include "lucid/session.h"
#include "tools.h"

namespace test {

/// One way to build an image. LUCID_BUILDS=",-O0,-Og," takes only those of these names.
struct Build {
  std::string name;
  std::string command;  ///< takes `-o IMAGE SOURCE`, given behind it
  std::string chip = "ATmega328P";
};
/// Levels, options, compilers, chips and forms of debug information; `every` are the usual ones.
const std::vector<Build>& builds();
const std::vector<Build>& cpp_builds();

/// C's execution tests, and what can be linked of those of C++.
enum class Language { kC, kCpp };

/// A file that goes when the tests end.
std::string own_file(const std::string& name);

/// Builds a source; nullopt if the compiler does not take it for this chip. The image
/// goes when the tests end.
std::optional<std::string> image_of(const std::string& source, const Build& build);

/// The programs that a run takes: all with LUCID_ALL set; LUCID_SAMPLE of them, which differ from
/// seed to seed (LUCID_SEED); else the same few of that count. LUCID_SOURCES names a folder of
/// other programs, in a folder `execute`.
std::vector<std::string> sample(std::size_t count, Language language = Language::kC);
bool everything();

/// Compares the list of callers with a shadow stack at each of the first instructions of each
/// program, built in each way.
void judge_callers(const std::vector<std::string>& sources, const std::vector<Build>& builds);

}  // namespace test

#endif  // LUCID_TESTS_STRANGERS_H
