// SPDX-License-Identifier: MIT
// Steps and passes without optimisation, against native runs: the lines that execute, in order.
#include <catch2/catch.hpp>
#include <cstdlib>
#include <filesystem>
#include <sstream>

#include "instrumented.h"
#include "strangers.h"

using namespace lucid;

namespace {

constexpr std::size_t kMostLines = 400;

struct Walk {
  std::vector<unsigned> lines;
  bool endless = false;
};

bool is_at_end(const Session& session) {
  const std::string& in = session.pause().where.function;
  return in == "_exit" || in == "__stop_program" || in == "exit" || in == "abort";
}

constexpr std::uint64_t kMostCycles = 3'000'000;  // nothing here needs more

Walk by_breakpoints(const std::string& image, const test::Build& build, const std::string& file,
                    const std::set<unsigned>& lines) {
  Session session(*Chip::make({build.chip, 16'000'000}));
  REQUIRE(session.open(image));
  static_cast<void>(session.set_fault("outside-memory", false));
  std::map<unsigned, unsigned> line_of;  // by breakpoint
  for (const unsigned line : lines)
    if (const auto point = session.pause_at({file + ":" + std::to_string(line)}))
      line_of[point->id] = line;
  Walk walk;
  while (walk.lines.size() < kMostLines && session.chip().cycles() < kMostCycles) {
    const Pause pause = session.go_for(kMostCycles);
    if (pause.cause != Pause::Cause::kBreakpoint) break;
    // The line of an inlined call begins together with the first line of its body.
    for (const bool own : {false, true})
      for (const unsigned id : pause.breakpoints)
        if ((line_of[id] == pause.where.line) == own) walk.lines.push_back(line_of[id]);
  }
  return walk;
}

Walk by_steps(const std::string& image, const test::Build& build, StepKind kind,
              const std::set<unsigned>& lines) {
  Session session(*Chip::make({build.chip, 16'000'000}));
  REQUIRE(session.open(image));
  static_cast<void>(session.set_fault("outside-memory", false));
  Walk walk;
  REQUIRE(session.go_to("main"));
  const auto look = [&] {
    if (lines.count(session.pause().where.line) != 0 && !session.pause().where.file.empty())
      walk.lines.push_back(session.pause().where.line);
  };
  look();
  for (unsigned n = 0; n < 4 * kMostLines && walk.lines.size() < kMostLines; ++n) {
    if (session.chip().cycles() > kMostCycles) {
      walk.endless = true;
      break;
    }
    const auto pause = session.step(kind, StepUnit::kLine);
    if (!pause || pause->cause != Pause::Cause::kStep || is_at_end(session)) break;
    look();
  }
  return walk;
}

/// Where two walks part; nothing if the one found is as the one expected, as far as it goes.
std::optional<std::size_t> parts(const std::vector<unsigned>& found,
                                 const std::vector<unsigned>& expected) {
  for (std::size_t i = 0; i < std::max(found.size(), expected.size()); ++i) {
    if (i >= kMostLines - 1) return std::nullopt;
    if (i >= found.size() || i >= expected.size() || found[i] != expected[i]) return i;
  }
  return std::nullopt;
}

/// Walks through some programs, built without optimisation in each way, against native runs.
void judge_walks(const std::vector<std::string>& sources, const std::vector<test::Build>& builds) {
  struct Tally {
    unsigned walks = 0, wrong = 0;
    std::size_t lines = 0;
  };
  std::map<std::string, Tally> tallies;
  unsigned told = 0;
  for (const std::string& source : sources) {
    if (test::depends_on_width(source)) continue;
    const auto native = test::run_natively(source);
    if (!native || !native->complete) continue;
    ++told;
    std::set<unsigned> all, of_main;
    for (const auto& [name, lines] : native->lines) {
      all.insert(lines.begin(), lines.end());
      if (name == "main") of_main = lines;
    }
    for (const test::Build& build : builds) {
      if (build.name.find("-O0") == std::string::npos) continue;
      const auto image = test::image_of(source, build);
      if (!image) continue;
      // Lines without an instruction are nobody's.
      std::set<unsigned> with_code;
      {
        Session session(*Chip::make({build.chip, 16'000'000}));
        REQUIRE(session.open(*image));
        for (const SourceFile& file : session.program().files())
          if (file.name == native->file)
            with_code.insert(file.lines_with_code.begin(), file.lines_with_code.end());
      }
      const auto expected = [&](const std::set<unsigned>& lines) {
        std::vector<unsigned> out;
        for (const test::Record& record : native->records)
          if (lines.count(record.line) != 0 && with_code.count(record.line) != 0)
            out.push_back(record.line);
        if (out.size() > kMostLines) out.resize(kMostLines);
        return out;
      };
      const struct {
        const char* name;
        Walk walk;
        std::vector<unsigned> expected;
      } walks[] = {{"passes", by_breakpoints(*image, build, native->file, all), expected(all)},
                   {"into", by_steps(*image, build, StepKind::kInto, all), expected(all)},
                   {"over", by_steps(*image, build, StepKind::kOver, of_main), expected(of_main)}};
      // Constructors of static objects are done before main begins, where steps begin.
      const bool from_main = of_main.count(native->records.front().line) != 0;
      for (const auto& one : walks) {
        if (one.name == std::string("into") && !from_main) continue;
        Tally& tally = tallies[build.name + " " + one.name];
        ++tally.walks;
        tally.lines += one.walk.lines.size();
        const auto where = parts(one.walk.lines, one.expected);
        if (!where && !one.walk.endless) continue;
        ++tally.wrong;
        std::string text;
        for (std::size_t i = *where < 4 ? 0 : *where - 4; where && i < *where + 3; ++i)
          text += " " + (i < one.walk.lines.size() ? std::to_string(one.walk.lines[i]) : "-") +
                  "/" + (i < one.expected.size() ? std::to_string(one.expected[i]) : "-");
        if (tally.wrong < 4)
          WARN(native->file << " " << build.name << " " << one.name
                            << (one.walk.endless ? " endless" : "") << ":" << text);
      }
    }
  }
  for (const auto& [name, tally] : tallies) {
    // Some programs go another way on the chip, and say so nowhere.
    CHECK(tally.wrong <= 2 + tally.walks / 8);
    WARN(name << ": " << tally.walks << " walks, " << tally.lines << " lines, " << tally.wrong
              << " walks part");
  }
  WARN(told << " programs");
}

/// How often lines with one whole statement execute, against native runs.
struct Passes {
  unsigned equal = 0, fewer = 0, more = 0;  ///< lines
  unsigned never = 0;                       ///< with code that is not executed, or moved away
  [[nodiscard]] unsigned all() const { return equal + fewer + more + never; }
};

using Counts = std::map<std::string, unsigned>;  ///< passes, by place

/// Passes of all places that have code.
Counts passes_of(const std::string& image, const test::Build& build, const Counts& places) {
  constexpr unsigned kMost = 20'000;
  Session session(*Chip::make({build.chip, 16'000'000}));
  REQUIRE(session.open(image));
  static_cast<void>(session.set_fault("outside-memory", false));
  std::map<unsigned, std::string> place_of;  // by breakpoint
  std::set<std::string> with_code;
  for (const SourceFile& file : session.program().files())
    for (const unsigned line : file.lines_with_code)
      with_code.insert(file.name + ":" + std::to_string(line));
  Counts out;
  for (const auto& [place, expected] : places) {
    const bool line = place.find(':') != place.npos && place.find("::") == place.npos;
    if (line && with_code.count(place) == 0) continue;
    if (const auto point = session.pause_at({place}); point && !point->addresses.empty()) {
      place_of[point->id] = place;
      out[place] = 0;
    }
  }
  for (unsigned n = 0; n < kMost && session.chip().cycles() < kMostCycles; ++n) {
    const Pause pause = session.go_for(kMostCycles);
    if (pause.cause != Pause::Cause::kBreakpoint) break;
    for (const unsigned id : pause.breakpoints) ++out[place_of[id]];
  }
  return out;
}

Counts lines_of(const test::Native& native) {
  Counts out;
  std::map<unsigned, unsigned> executed;
  for (const test::Record& record : native.records) ++executed[record.line];
  for (const auto& [name, lines] : native.lines)
    for (const unsigned line : lines)
      out[native.file + ":" + std::to_string(line)] = executed[line];
  return out;
}

Counts functions_of(const test::Native& native) { return native.entered; }

std::map<std::string, Passes> compared(const std::vector<std::string>& sources,
                                       Counts (*places_of)(const test::Native&)) {
  std::map<std::string, Passes> out;
  for (const std::string& source : sources) {
    if (test::depends_on_width(source)) continue;
    const auto native = test::run_natively(source);
    if (!native || !native->complete) continue;
    Counts expected = places_of(*native);
    const bool is_cpp = source.substr(source.rfind('.')) == ".C";
    for (const test::Build& build : is_cpp ? test::cpp_builds() : test::builds()) {
      const auto image = test::image_of(source, build);
      if (!image) continue;
      Passes& passes = out[build.name];
      for (const auto& [place, found] : passes_of(*image, build, expected)) {
        const unsigned wanted = expected[place];
        ++(found == wanted  ? passes.equal
           : found == 0     ? passes.never
           : found < wanted ? passes.fewer
                            : passes.more);
        if (found != wanted && std::getenv("LUCID_TELL") != nullptr)
          WARN(build.name << " " << native->file << " " << place << ": " << found << ", natively "
                          << wanted);
      }
    }
  }
  for (const auto& [name, passes] : out)
    WARN(name << ": " << passes.all() << " places, " << passes.equal << " as often as natively, "
              << passes.fewer << " less often, " << passes.more << " more often, " << passes.never
              << " never");
  return out;
}

std::vector<std::string> small_functions() {
  std::vector<std::string> out;
  for (const auto& entry : std::filesystem::directory_iterator(std::string(LUCID_TEST_SOURCES) +
                                                               "/strangers/functions"))
    out.push_back(entry.path().string());
  std::sort(out.begin(), out.end());
  return out;
}

}  // namespace

TEST_CASE("steps and passes meet each executed line once and in order, without optimisation") {
  judge_walks(test::sample(20), test::builds());
}

TEST_CASE("steps and passes in C++ meet each executed line once and in order") {
  judge_walks(test::sample(30, test::Language::kCpp), test::cpp_builds());
}

TEST_CASE("lines pass as often as natively, but for what compilers have merged or moved") {
  for (const auto& [name, passes] : compared(small_functions(), lines_of)) {
    INFO(name);
    CHECK(passes.all() > 250);
    // What a line needs in each round of a loop may be worked out before it: once more than it
    // passes.
    CHECK(passes.more <= passes.all() / 36);
    // Of an unrolled loop's statements some are worked out once for all rounds.
    CHECK(passes.fewer <= passes.all() / (name == "-O3" ? 11 : 24));
    CHECK(passes.never <= passes.all() / 20);
    if (name.find("-O0") != std::string::npos) CHECK(passes.equal == passes.all());
  }
}

TEST_CASE("a function's body is come to whenever it is called") {
  constexpr std::uint64_t kCycles = 300'000;
  unsigned called = 0, more = 0;
  for (const std::string& source : test::sample(12))
    for (const test::Build& build : test::builds()) {
      const auto image = test::image_of(source, build);
      if (!image) continue;
      Session session(*Chip::make({build.chip, 16'000'000}));
      REQUIRE(session.open(*image));
      static_cast<void>(session.set_fault("outside-memory", false));
      struct Counted {
        std::string name;
        std::uint64_t calls = 0, passes = 0;
      };
      std::vector<Counted> all;
      std::map<unsigned, std::pair<std::size_t, bool>> of;  // by breakpoint
      for (const Function& function : session.program().functions()) {
        const auto& inlined = session.program().inlined_calls();
        const bool copied =
            std::any_of(inlined.begin(), inlined.end(),
                        [&](const InlinedCall& call) { return call.name == function.name; });
        if (!function.has_lines || copied) continue;
        const auto body = session.pause_at({function.name});
        std::ostringstream address;
        address << "0x" << std::hex << function.begin;
        const auto begin = session.pause_at({address.str()});
        REQUIRE(body);
        REQUIRE(begin);
        of[body->id] = {all.size(), true};
        of[begin->id] = {all.size(), false};
        all.push_back({function.name});
      }
      while (session.chip().cycles() < kCycles) {
        const Pause pause = session.go_for(kCycles - session.chip().cycles());
        if (pause.cause != Pause::Cause::kBreakpoint) break;
        for (const unsigned id : pause.breakpoints)
          ++(of[id].second ? all[of[id].first].passes : all[of[id].first].calls);
      }
      for (const Counted& one : all) {
        INFO(source << " " << build.name << " " << one.name);
        if (one.calls != 0) ++called;
        // What it begins with may be a loop; the last call may be the one that time is up in.
        if (one.calls > one.passes + 1) ++more;
        CHECK(one.passes <= one.calls);
        CHECK(one.passes + 1 >= std::min<std::uint64_t>(one.calls, 2));
      }
    }
  WARN(called << " functions, " << more << " that begin with a loop");
  CHECK(called > 200);
  CHECK(more < called / 20);
}

TEST_CASE("functions begin as often as natively, inlined or not") {
  for (const auto& [name, passes] : compared(small_functions(), functions_of)) {
    INFO(name);
    CHECK(passes.all() > 80);
    CHECK(passes.more <= passes.all() / 60);  // bodies that are a loop, which is unrolled
    CHECK(passes.never == 0);
    // Calls of functions that only give a result are merged, or worked out by the compiler.
    CHECK(passes.fewer <= passes.all() / 15);
    if (name.find("-O0") != std::string::npos) CHECK(passes.equal == passes.all());
  }
}

TEST_CASE("functions of C++ begin as often as natively, but for templates of their names") {
  for (const auto& [name, passes] :
       compared(test::sample(30, test::Language::kCpp), functions_of)) {
    INFO(name);
    CHECK(passes.all() > 10);
    CHECK(passes.more <= 1 + passes.all() / 10);
    if (name.find("-O0") != std::string::npos) CHECK(passes.fewer + passes.never == 0);
  }
}
