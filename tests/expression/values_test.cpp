// SPDX-License-Identifier: MIT
// The values of variables, at every optimisation level, against what the program itself prints, and
// against the same program without optimisation. The programs are in tests/programs.
#include <algorithm>
#include <catch2/catch.hpp>
#include <map>
#include <set>

#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

const char* const kPrograms[] = {
    "average", "bits",  "checksum", "control",   "curve", "debounce", "list",
    "matrix",  "parse", "real",     "recursion", "ring",  "root",     "schedule",
    "search",  "sort",  "states",   "text",      "union", "vector",   "wide"};
/// All of them, or three under sanitizers.
std::vector<std::string> programs() {
  const std::size_t count = test::kSanitized ? 3 : std::size(kPrograms);
  return {kPrograms, kPrograms + count};
}
const std::string kFolder = std::string(LUCID_TEST_SOURCES) + "/programs";

std::string built(const std::string& program, const std::string& flags, const std::string& tag) {
  return test::compiled(program + tag, test::read(kFolder + "/" + program + ".c"),
                        flags + " -std=gnu11 -gdwarf-4 -I" + kFolder);
}

/// The serial output, as lines that are complete.
class Printed final : public Listener {
 public:
  void on_serial(const std::string& /*port*/, const std::string& bytes) override { text += bytes; }
  std::string text;
};

/// The lines of a source in which a variable is said, with its name.
std::map<unsigned, std::string> said_in(const std::string& source) {
  std::map<unsigned, std::string> out;
  unsigned line = 1;
  for (std::size_t at = 0; at < source.size(); ++line) {
    const std::size_t end = source.find('\n', at);
    const std::string text = source.substr(at, end - at);
    if (const std::size_t say = text.find("SAY("); say != text.npos)
      out[line] = text.substr(say + 4, text.find(')') - say - 4);
    at = end + 1;
  }
  return out;
}

}  // namespace

TEST_CASE("a variable's value is what the program prints") {
  std::set<std::string> cases;  // program, line, variable
  unsigned right = 0;
  unsigned unknown = 0;
  unsigned without_pause = 0;
  for (const std::string& program : programs()) {
    const auto said = said_in(test::read(kFolder + "/" + program + ".c"));
    for (const std::string level : {"-O0", "-Og", "-O1", "-O2", "-Os", "-Os -flto"}) {
      std::string tag = "-said" + level;
      tag.erase(std::remove(tag.begin(), tag.end(), ' '), tag.end());
      Session session(*Chip::make({"ATmega328P", 16'000'000}));
      Printed printed;
      session.set_listener(&printed);
      REQUIRE(session.open(built(program, level + " -DPRINTED", tag)));
      const std::string file = program + tag + ".c";
      for (const auto& [line, name] : said)
        REQUIRE(session.pause_at({file + ":" + std::to_string(line)}));
      std::map<unsigned, std::vector<std::string>> shown;  // at a line since it was printed last
      std::size_t at = 0;
      for (unsigned pauses = 0; pauses < 150; ++pauses) {
        const Pause pause = session.go();
        session.go_for(0);
        for (std::size_t end = 0; (end = printed.text.find('\n', at)) != std::string::npos;
             at = end + 1) {
          const std::string text = printed.text.substr(at, end - at);
          const auto line = static_cast<unsigned>(std::stoul(text.substr(0, 4)));
          const std::size_t blank = text.rfind(' ');
          const auto value =
              static_cast<std::int32_t>(std::stoul(text.substr(blank + 1), nullptr, 16));
          INFO(program << tag << " " << text);
          without_pause += shown[line].empty() ? 1 : 0;
          for (const std::string& one : shown[line]) {
            (one == "?" ? unknown : right) += 1;
            if (one != "?") CHECK(one == std::to_string(value));
          }
          shown[line].clear();
          cases.insert(program + tag + text.substr(0, blank));
        }
        if (pause.cause != Pause::Cause::kBreakpoint) break;
        const auto value = session.evaluate(said.at(pause.where.line));
        shown[pause.where.line].push_back(
            value ? std::to_string(static_cast<std::int32_t>(value->integer)) : "?");
      }
    }
  }
  WARN(cases.size() << " places, " << right << " values right, " << unknown << " unknown, "
                    << without_pause << " printed without a pause");
  CHECK((test::kSanitized || cases.size() >= 200));
  CHECK((test::kSanitized || unknown < right / 10));
  CHECK(without_pause <= 1);  // -O1 lets two calls of `say` share their end
}

namespace {

/// What is shown at each pass of each line: variable -> value, "?" if it is said to be unknown.
using Shown = std::map<std::string, std::string>;
struct Moment {
  unsigned line = 0;
  Shown shown;
};
/// In the order in which they came, and by line.
struct Story {
  std::vector<Moment> moments;
  std::map<unsigned, std::vector<std::size_t>> passes;
  /// The next (step 1) or previous (-1) other value that a variable has.
  [[nodiscard]] std::string other(std::size_t moment, const std::string& name, int step) const {
    const std::string& now = moments[moment].shown.at(name);
    for (std::size_t i = moment + static_cast<std::size_t>(step); i < moments.size();
         i += static_cast<std::size_t>(step))
      if (const auto found = moments[i].shown.find(name);
          found != moments[i].shown.end() && found->second != now && found->second != "?")
        return found->second;
    return "";
  }
};

/// Equal but for members that are said not to be known.
bool agrees(std::string value, const std::string& truth) {
  const std::string gap = "(not known here)";
  std::size_t in_truth = 0;
  for (std::size_t at = 0; (at = value.find(gap)) != value.npos;) {
    if (truth.compare(in_truth, at, value, 0, at) != 0) return false;
    in_truth = std::min(truth.find_first_of(",}", in_truth + at), truth.size());
    value.erase(0, at + gap.size());
  }
  return truth.compare(in_truth, truth.npos, value) == 0;
}

/// Numbers only: addresses differ from build to build.
std::optional<std::string> plain(const std::string& value, const std::string& type) {
  if (type.find('*') != std::string::npos || value.find("→") != std::string::npos) return {};
  return value[0] == '(' ? "?" : value;
}

Story story_of(const std::string& elf, unsigned most) {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(elf));
  const Program& program = session.program();
  for (unsigned f = 0; f < program.files().size(); ++f) {
    const SourceFile& file = program.files()[f];
    if (file.name == "say.h" || file.name.find(".c") == std::string::npos) continue;
    for (const unsigned line : file.lines_with_code)
      static_cast<void>(session.pause_at({file.name + ":" + std::to_string(line)}));
  }
  Story out;
  for (unsigned n = 0; n < most; ++n) {
    const Pause pause = session.go();
    if (pause.cause != Pause::Cause::kBreakpoint) break;
    Shown shown;
    const auto levels = session.callers();
    for (unsigned up = 0; up < 2 && up < levels.size(); ++up) {
      const CallLevel& level = levels[levels.size() - 1 - up];
      REQUIRE(session.select_level(level.level));
      // A local that is declared further down is not set yet: without optimisation it is garbage.
      const auto locals = program.locals_at(level.where.address);
      const auto is_set = [&](const std::string& name) {
        const auto local = std::find_if(locals.begin(), locals.end(),
                                        [&](const Local* l) { return l->name == name; });
        return local == locals.end() || (*local)->parameter || (*local)->line < level.where.line;
      };
      for (const VariableView& v : session.variables())
        if (const auto value = plain(v.value, v.type); value && is_set(v.name))
          shown.emplace(level.where.function + "." + v.name, *value);
    }
    out.passes[pause.where.line].push_back(out.moments.size());
    out.moments.push_back({pause.where.line, std::move(shown)});
  }
  return out;
}

/// Differences that are the compiler's.
bool is_explained(const std::string& image, const std::string& name) {
  // Recursion has become a loop, or is inlined into itself: a pass belongs to another call.
  if (image == "recursion-O2" || image == "recursion-Os") return name.find("moves.") == 0;
  // The debug information says that it is the constant 7 in all rounds of the loop.
  return image == "search-O1" && name == "search.middle";
}

}  // namespace

TEST_CASE("a variable's value is that of the build without optimisation, or unknown") {
  unsigned images = 0;
  unsigned equal = 0;
  unsigned unknown = 0;
  unsigned early = 0;
  unsigned late = 0;
  unsigned different = 0;
  unsigned other_passes = 0;
  for (const std::string& program : programs()) {
    const Story truth = story_of(built(program, "-O0", "-silent-O0"), 2000);
    for (const std::string level : {"-Og", "-O1", "-O2", "-Os"}) {
      ++images;
      const Story found = story_of(built(program, level, "-silent" + level), 2000);
      for (const auto& [line, passes] : found.passes) {
        const auto there = truth.passes.find(line);
        // Where the compiler has split, merged or moved a line, a pass is another moment.
        if (there == truth.passes.end() || there->second.size() != passes.size()) {
          ++other_passes;
          continue;
        }
        for (std::size_t pass = 0; pass < passes.size(); ++pass)
          for (const auto& [name, value] : found.moments[passes[pass]].shown) {
            const std::size_t moment = there->second[pass];
            const Shown& right = truth.moments[moment].shown;
            const auto is = right.find(name);
            if (is == right.end() || is->second == "?") continue;
            if (value == "?") {
              ++unknown;
            } else if (agrees(value, is->second)) {
              ++equal;
            } else if (agrees(value, truth.other(moment, name, 1))) {
              ++early;
            } else if (agrees(value, truth.other(moment, name, -1))) {
              ++late;
            } else {
              ++different;
              INFO(program << level << ":" << line << " pass " << pass + 1 << " " << name
                           << " shows " << value << ", is " << is->second);
              CHECK(is_explained(program + level, name));
            }
          }
      }
    }
  }
  const unsigned all = equal + unknown + early + late + different;
  WARN(images << " images, " << all << " values: " << equal << " equal, " << unknown << " unknown, "
              << early << " assigned before their line, " << late << " behind it, " << different
              << " different; " << other_passes << " lines with other passes left out");
  CHECK((test::kSanitized || equal > all / 10 * 7));
  CHECK(early + late < all / 100);
}
