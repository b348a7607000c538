// SPDX-License-Identifier: MIT
// Going back through programs that nobody here wrote, as they were gone through forwards.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <random>

#include "strangers.h"

using namespace lucid;

namespace {

struct Stand {
  std::uint64_t cycles = 0, hash = 0;
  std::size_t levels = 0;
  Location where;
};

/// Steps are inverses where a step could have begun: not in the middle of a line, where one has
/// come to by returning, and not behind the program's end.
bool is_inverse(const Stand& from, const Stand& to, StepKind kind, StepUnit unit) {
  constexpr std::size_t kMostLevels = 250;  // of which callers are listed
  if (from.levels >= kMostLevels) return false;
  if (unit == StepUnit::kLine &&
      (from.where.line == 0 || to.where.line == 0 || !to.where.line_begins))
    return false;
  return kind == StepKind::kInto ||
         (from.levels == to.levels && from.where.function == to.where.function);
}

Stand stand(const Session& session) {
  return {session.chip().cycles(), session.chip().hash(), session.callers().size(),
          session.pause().where};
}

}  // namespace

TEST_CASE("strangers' programs: steps back undo steps, and any moment is as it was") {
  const unsigned seed = test::fresh_seed();
  INFO("seed " << seed);
  std::mt19937 random(seed);
  const std::size_t programs = test::everything() ? 400 : 8;
  unsigned undone = 0, visited = 0;
  for (const std::string& source : test::sample(programs)) {
    const test::Build& build = test::builds()[random() % test::builds().size()];
    const auto image = test::image_of(source, build);
    if (!image) continue;
    INFO(source << " " << build.name);
    Session session(*Chip::make({build.chip, 16'000'000}));
    REQUIRE(session.open(*image));
    static_cast<void>(session.set_fault("outside-memory", false));
    session.set_limit({100'000'000'000});  // its end is a loop
    if (!session.go_to("main")) continue;
    session.go_for(random() % 2'000);
    const auto unit = random() % 2 != 0 ? StepUnit::kLine : StepUnit::kInstruction;
    const auto kind = random() % 2 != 0 ? StepKind::kInto : StepKind::kOver;
    if (!session.step(StepKind::kInto, StepUnit::kLine)) continue;
    std::vector<Stand> stands{stand(session)};
    constexpr std::uint64_t kMostCycles = 500'000;
    for (unsigned i = 0; i < 60 && session.chip().cycles() < kMostCycles; ++i) {
      const auto pause = session.step(kind, unit);
      const Stand now = stand(session);
      if (!pause || pause->cause != Pause::Cause::kStep || now.cycles == stands.back().cycles)
        break;
      // A step that has run through a call is undone as one while the level stays.
      stands.push_back(now);
    }
    REQUIRE(session.go_to_time(to_time(stands.back().cycles, 16'000'000)));
    for (std::size_t i = stands.size() - 1; i > 0; --i) {
      const auto back = session.step_back(kind, unit);
      REQUIRE(back);
      if (is_inverse(stands[i], stands[i - 1], kind, unit)) {
        INFO(fmt::format("step {} of {}, {}, {}: from {} to {}", i, stands.size() - 1,
                         kind == StepKind::kInto ? "into" : "over",
                         unit == StepUnit::kLine ? "line" : "instruction", stands[i].cycles,
                         stands[i - 1].cycles));
        CHECK(session.chip().cycles() == stands[i - 1].cycles);
        CHECK(session.chip().hash() == stands[i - 1].hash);
        ++undone;
      }
      REQUIRE(session.go_to_time(to_time(stands[i - 1].cycles, 16'000'000)).has_value());
    }
    for (unsigned i = 0; i < 10; ++i) {
      const Stand& then = stands[random() % stands.size()];
      REQUIRE(session.go_to_time(to_time(then.cycles, 16'000'000)));
      INFO("at " << then.cycles << ", now " << session.chip().cycles());
      CHECK(session.chip().hash() == then.hash);
      ++visited;
    }
  }
  WARN(undone << " steps undone, " << visited << " moments visited again");
  CHECK(undone > programs * 5);
  CHECK(visited > programs * 5);
}
