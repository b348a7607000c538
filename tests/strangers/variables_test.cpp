// SPDX-License-Identifier: MIT
// The values of variables against native runs, in every build. A value is compared, cut to the
// type it has on the chip, where a line has as many passes as the native run has records of it.
#include <algorithm>
#include <catch2/catch.hpp>
#include <filesystem>

#include "instrumented.h"
#include "strangers.h"

using namespace lucid;

namespace {

constexpr std::size_t kMostPauses = 1500;
constexpr std::uint64_t kMostCycles = 3'000'000;

struct Tally {
  unsigned images = 0;
  std::uint64_t equal = 0, unknown = 0, false_unknown = 0, either = 0, early_or_late = 0, wrong = 0,
                unset_shown = 0;
  [[nodiscard]] std::uint64_t all() const {
    return equal + unknown + either + early_or_late + wrong;
  }
};

std::int64_t cut(std::int64_t value, const Value& like) {
  if (like.bits >= 64) return value;
  const std::uint64_t mask = (std::uint64_t{1} << like.bits) - 1;
  std::uint64_t raw = static_cast<std::uint64_t>(value) & mask;
  if (like.is_signed && (raw >> (like.bits - 1) & 1U) != 0) raw |= ~mask;
  return static_cast<std::int64_t>(raw);
}

struct Shown {
  unsigned line = 0;
  struct One {
    Result<Value> value;
    Result<Value> described;
  };
  std::map<std::string, One> values;
};

/// What the debugger shows at each pass of the lines that are recorded.
std::vector<Shown> shown_in(const std::string& image, const test::Build& build,
                            const test::Native& native) {
  Session session(*Chip::make({build.chip, 16'000'000}));
  REQUIRE(session.open(image));
  static_cast<void>(session.set_fault("outside-memory", false));
  std::map<unsigned, unsigned> line_of;
  for (const auto& [name, lines] : native.lines)
    for (const unsigned line : lines)
      if (const auto point = session.pause_at({native.file + ":" + std::to_string(line)}))
        line_of[point->id] = line;
  std::map<unsigned, const test::Record*> sample;
  for (const test::Record& record : native.records) sample.emplace(record.line, &record);
  const bool in_order = build.name.find("-O0") != std::string::npos;
  std::vector<Shown> out;
  while (out.size() < kMostPauses && session.chip().cycles() < kMostCycles) {
    const Pause pause = session.go_for(kMostCycles);
    if (pause.cause != Pause::Cause::kBreakpoint) break;
    for (const unsigned id : pause.breakpoints) {
      Shown shown;
      shown.line = line_of[id];
      const auto record = sample.find(shown.line);
      // Two lines that begin at one place, one of them inlined: the names are those of the inner.
      if (record != sample.end() && shown.line == pause.where.line)
        for (const auto& [name, value] : record->second->values)
          if (in_order || record->second->in_memory.count(name) == 0)
            shown.values.emplace(name, Shown::One{session.evaluate(name), session.described(name)});
      out.push_back(std::move(shown));
    }
  }
  return out;
}

class Comparison {
 public:
  Comparison(const test::Native& native, const std::vector<Shown>& shown) : native_(native) {
    for (std::size_t i = 0; i < native.records.size(); ++i)
      records_[native.records[i].line].push_back(i);
    for (const Shown& one : shown) passes_[one.line].push_back(&one);
  }

  void run(const std::string& title, Tally& tally, bool tell) const {
    for (const auto& [line, passes] : passes_) {
      const auto there = records_.find(line);
      if (there == records_.end()) continue;
      if (there->second.size() != passes.size()) continue;
      for (std::size_t n = 0; n < std::min(passes.size(), there->second.size()); ++n)
        for (const auto& [name, one] : passes[n]->values)
          compare(title, there->second[n], name, one, tally, tell);
    }
  }

 private:
  void compare(const std::string& title, std::size_t at, const std::string& name,
               const Shown::One& one, Tally& tally, bool tell) const {
    const auto found = native_.records[at].values.find(name);
    if (found == native_.records[at].values.end()) return;
    if (!found->second) {  // the program has not set it: nothing can be right
      tally.unset_shown += one.value ? 1 : 0;
      const std::string text = title + ":" + std::to_string(native_.records[at].line) + " " + name;
      if (one.value && std::getenv("LUCID_TELL") != nullptr && told().insert(text).second)
        WARN(text << " is not set, shows " << one.value->integer);
      return;
    }
    const std::int64_t truth = *found->second;
    if (!one.value) {
      ++tally.unknown;
      if (one.value.error().what.find(" or ") != std::string::npos) ++tally.either;
      const bool held = one.described && one.described->integer == cut(truth, *one.described);
      tally.false_unknown += held ? 1 : 0;
      const std::string text = title + ":" + std::to_string(native_.records[at].line) + " " + name;
      if (held && std::getenv("LUCID_TELL") != nullptr && told().insert(text).second)
        WARN(text << " held " << truth << ": " << one.value.error().hint);
      return;
    }
    if (one.value->integer == cut(truth, *one.value)) {
      ++tally.equal;
      return;
    }
    if (near(at, name, *one.value)) {
      ++tally.early_or_late;
      const std::string text = title + ":" + std::to_string(native_.records[at].line) + " " + name;
      if (std::getenv("LUCID_TELL") != nullptr && told().insert(text).second)
        WARN(text << " is early or late: shows " << one.value->integer << ", is " << truth);
      return;
    }
    ++tally.wrong;
    const std::string about = title + ":" + std::to_string(native_.records[at].line) + " " + name;
    const bool all = std::getenv("LUCID_TELL") != nullptr;
    if (tell && told().insert(about).second && (all || told().size() < 200))
      WARN(about << " shows " << one.value->integer << ", is " << truth);
  }
  static std::set<std::string>& told() {
    static std::set<std::string> about;
    return about;
  }

  /// Does the variable have this value just before or just after?
  [[nodiscard]] bool near(std::size_t at, const std::string& name, const Value& shown) const {
    for (const int step : {-1, 1}) {
      const std::int64_t now = *native_.records[at].values.at(name);
      for (std::size_t i = at + static_cast<std::size_t>(step), far = 0;
           i < native_.records.size() && far < 40; i += static_cast<std::size_t>(step), ++far) {
        const auto found = native_.records[i].values.find(name);
        if (found == native_.records[i].values.end() || !found->second || *found->second == now)
          continue;
        if (shown.integer == cut(*found->second, shown)) return true;
        break;
      }
    }
    return false;
  }

  const test::Native& native_;
  std::map<unsigned, std::vector<std::size_t>> records_;
  std::map<unsigned, std::vector<const Shown*>> passes_;
};

/// All values of some programs, built in each way; the first build is without optimisation.
Tally compared(const std::vector<std::string>& sources, const std::vector<test::Build>& builds) {
  std::map<std::string, Tally> tallies;
  unsigned programs = 0;
  unsigned other_way = 0;
  for (const std::string& source : sources) {
    if (test::depends_on_width(source)) continue;
    const auto native = test::run_natively(source);
    if (!native || !native->complete) continue;
    // The image without optimisation goes the native run's way, or the program depends on widths.
    const auto plain = test::image_of(source, builds.front());
    if (!plain) continue;
    Tally without;
    Comparison(*native, shown_in(*plain, builds.front(), *native))
        .run("", without, std::getenv("LUCID_TELL") != nullptr);
    if (without.wrong + without.early_or_late != 0) {
      ++other_way;
      if (std::getenv("LUCID_TELL") != nullptr) WARN(native->file << " goes another way");
      continue;
    }
    ++programs;
    for (const test::Build& build : builds) {
      const auto image = test::image_of(source, build);
      if (!image || build.name.find("STABS") != std::string::npos) continue;
      Tally& tally = tallies[build.name];
      ++tally.images;
      Comparison(*native, shown_in(*image, build, *native))
          .run(native->file + " " + build.name, tally, true);
    }
  }
  Tally all;
  for (const auto& [name, t] : tallies) {
    WARN(name << ": " << t.images << " images, " << t.all() << " values, " << t.equal << " equal, "
              << t.unknown << " unknown (" << t.false_unknown << " held it), " << t.early_or_late
              << " early or late, " << t.wrong << " wrong, " << t.unset_shown
              << " shown before they are set");
    all.equal += t.equal;
    all.unknown += t.unknown;
    all.false_unknown += t.false_unknown;
    all.early_or_late += t.early_or_late;
    all.wrong += t.wrong;
  }
  WARN(programs << " programs (" << other_way << " go another way): " << all.all() << " values, "
                << all.equal << " equal, " << all.unknown << " unknown (" << all.false_unknown
                << " held it), " << all.early_or_late << " early or late, " << all.wrong
                << " wrong");
  return all;
}

}  // namespace

TEST_CASE("variables have the values of a native run, or are said to be unknown") {
  const Tally all = compared(test::sample(30), test::builds());
  // What the debug information says of loops that have no code is nobody's fault here.
  CHECK(all.wrong <= all.all() / 100);  // a sample may have much of it: 0.1 % over many programs
  CHECK(all.early_or_late <= all.all() / 50);
  CHECK(all.unknown <= all.all() / 2);
}

TEST_CASE(
    "variables of small functions have the values of a native run, or are said to be unknown") {
  // Torture programs are mostly main; firmware is functions with parameters.
  std::vector<std::string> sources;
  for (const auto& entry : std::filesystem::directory_iterator(std::string(LUCID_TEST_SOURCES) +
                                                               "/strangers/functions"))
    sources.push_back(entry.path().string());
  std::sort(sources.begin(), sources.end());
  std::vector<test::Build> gcc, clang;
  for (const test::Build& build : test::builds()) {
    if (test::kSanitized && build.name != "-O0" && build.name != "-Og" && build.name != "-Os")
      continue;
    (build.name.rfind("clang", 0) == 0 ? clang : gcc).push_back(build);
  }
  const Tally by_gcc = compared(sources, gcc);
  // Assignments that it has moved over more than one statement, registers that it names wrongly.
  CHECK(by_gcc.wrong <= by_gcc.all() / 1300);
  CHECK(by_gcc.false_unknown <= by_gcc.unknown / 9);
  CHECK(by_gcc.unknown <= by_gcc.all() / 4);
  if (clang.empty()) return;
  const Tally by_clang = compared(sources, clang);
  // Where it moves a computation down it tells the old value; another is told before its round.
  CHECK(by_clang.wrong <= by_clang.all() / 340);
}

TEST_CASE("variables in C++ have the values of a native run, or are said to be unknown") {
  const Tally all = compared(test::sample(30, test::Language::kCpp), test::cpp_builds());
  CHECK(all.wrong <= all.all() / 100);
  CHECK(all.early_or_late <= all.all() / 50);
  CHECK(all.unknown <= all.all() / 2);
}
