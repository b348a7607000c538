// SPDX-License-Identifier: MIT
// Checks of whole runs raise no false alarm on programs that nobody here wrote, while a handler
// comes in the middle of them all the time: each is called again and again.
#include <algorithm>
#include <catch2/catch.hpp>
#include <iterator>

#include "lucid/finding.h"
#include "strangers.h"

using namespace lucid;

namespace {

/// What is found there is so; each was read.
constexpr const char* kRight[] = {
    "20090527-1.c",  // decides by a member that it has not set
    "941014-2.c",    // reads what malloc() has left
    "strlen-7.c",    // copies a text over the end of its block
    "pr79354.c",     // copies four bytes into an int, which has two here
    // Called again and again: counters go on and index behind their array, or a loop has no rounds
    // and a local no value; memory runs out.
    "990222-1.c", "pr48814-2.c", "pr57130.c", "pr78675.c", "920810-1.c"};

}  // namespace

TEST_CASE("checks find nothing in strangers' programs under a hammering interrupt") {
  const std::string handler = test::own_file("hammer.c");
  test::write(handler, R"(
#undef main
#undef exit
#undef abort
#include <avr/interrupt.h>
#include <avr/io.h>
#include <setjmp.h>
volatile uint32_t hammer_ticks, hammer_rounds;
static jmp_buf again;
int stranger_main();
ISR(TIMER1_COMPA_vect) {
  static uint8_t jitter;
  hammer_ticks++;
  OCR1A = 250 + (jitter += 29) % 97;
}
void stranger_exit(int code) { longjmp(again, 1); }
void stranger_abort(void) { longjmp(again, 1); }
int main(void) {
  OCR1A = 300;
  TCCR1B = 1 << WGM12 | 1 << CS10;
  TIMSK1 = 1 << OCIE1A;
  sei();
  for (;;) {
    hammer_rounds++;
    if (setjmp(again) == 0) stranger_main();
  }
}
)");
  const std::size_t programs = test::everything() ? 400 : 20;
  std::size_t built = 0, i = 0;
  std::uint64_t interrupts = 0;
  for (const std::string& source : test::sample(programs)) {
    test::Build build = test::builds()[i++ % test::builds().size()];
    build.command +=
        " -w -Dmain=stranger_main -Dexit=stranger_exit -Dabort=stranger_abort " + handler;
    const auto image = test::image_of(source, build);
    if (!image) continue;
    INFO(source << " " << build.name);
    Session session(*Chip::make({build.chip, 16'000'000}));
    REQUIRE(session.open(*image));
    for (const Session::Check& check : session.checks())
      REQUIRE(session.set_check(check.name, Session::CheckMode::kList));
    // A stack that has run into the data, say, takes all with it.
    if (session.go_for(Picoseconds{20'000'000'000}).cause == Pause::Cause::kFault) continue;
    const auto ticks = session.evaluate("hammer_ticks");
    if (!ticks) continue;  // built without debug information
    ++built;
    interrupts += static_cast<std::uint64_t>(ticks->integer);
    const std::string name = source.substr(source.rfind('/') + 1);
    if (std::find(std::begin(kRight), std::end(kRight), name) != std::end(kRight)) continue;
    std::string found;
    for (const FindingView& f : session.findings())
      // Called again and again some run out of memory, and store through a null pointer: to I/O.
      // Some print though there is no standard output: it is a null pointer.
      if (f.check != "data-sheet" && f.check != "null-pointer")
        found += f.check + ": " + f.text + "\n";
    CHECK(found == "");
  }
  WARN(built << " programs, " << interrupts << " interrupts");
  CHECK(built > programs / 2);
  CHECK(interrupts > built * 500);
}
