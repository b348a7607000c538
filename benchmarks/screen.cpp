// SPDX-License-Identifier: MIT
// What the screen costs: a picture after a step, and pictures while the program runs.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <clocale>
#include <cstdlib>
#include <functional>
#include <sstream>
#include <string>
#include <vector>

#include "screen/screen.h"

namespace {

using namespace lucid::app;
using lucid::Result;

double seconds_of(const std::function<void()>& act) {
  const auto begin = std::chrono::steady_clock::now();
  act();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

/// Keeps what it is given, as a terminal would compare it.
class Paper final : public Terminal {
 public:
  Event next(int /*milliseconds*/) override { return {}; }
  void draw(const Frame& frame) override {
    ++drawn;
    last = frame;
  }
  [[nodiscard]] std::pair<int, int> size() override { return {36, 120}; }
  unsigned drawn = 0;
  Frame last{36, 120, true};
};

void must(const Result<void>& done) {
  if (done) return;
  fmt::print("{}\n", done.error().text());
  std::exit(1);
}

Console::Options options() {
  Console::Options out;
  out.bench = LUCID_KILN "/kiln.bench.toml";
  out.screen = true;
  return out;
}

void key(Screen& screen, Key key) {
  Event event{Event::Kind::kKey};
  event.key = key;
  screen.handle(event);
}

void after_a_step() {
  for (const char layout : std::string("12345")) {
    std::ostringstream none;
    Console console(options(), none);
    must(console.open(LUCID_KILN "/images/kiln-og.elf"));
    Paper paper;
    History history;
    Log log;
    Screen screen(console, paper, history, log, "");
    screen.handle({Event::Kind::kResize});
    for (const char* line : {"watch setpoint - measured", "trace pin.PB5", "trace setpoint",
                             "trace part chamber", "pause at control_step on pass 20", "go"})
      screen.command(line);
    key(screen, static_cast<Key>(layout));
    std::vector<double> steps, pictures;
    for (unsigned i = 0; i < 200; ++i) {
      (void)screen.frame();
      steps.push_back(seconds_of([&] { key(screen, 'o'); }));
      pictures.push_back(seconds_of([&] { (void)screen.frame(); }));
    }
    std::sort(steps.begin(), steps.end());
    std::sort(pictures.begin(), pictures.end());
    fmt::print("layout {}: a picture {:.2f} ms (worst of 200: {:.2f}); the step itself {:.2f} ms\n",
               layout, pictures[100] * 1e3, pictures.back() * 1e3, steps[100] * 1e3);
  }
}

void while_it_runs(const char* image, const char* bench, const char* line) {
  std::vector<double> ratios;
  unsigned drawn = 0;
  double at_once = 0;
  for (unsigned i = 0; i < 9; ++i) {
    double time[2];
    for (const bool with : {i % 2 == 0, i % 2 != 0}) {
      std::ostringstream none;
      Console::Options o = options();
      o.bench = bench;
      Console console(o, none);
      must(console.open(image));
      Paper paper;
      History history;
      Log log;
      std::unique_ptr<Screen> screen;
      if (with) {
        screen = std::make_unique<Screen>(console, paper, history, log, "");
        screen->handle({Event::Kind::kResize});
        key(*screen, '4');
        (void)screen->frame();
      }
      time[with ? 1 : 0] = seconds_of([&] { must(console.execute(line)); });
      if (with) drawn = paper.drawn;
    }
    ratios.push_back(time[0] / time[1]);
    at_once = time[1];
  }
  std::sort(ratios.begin(), ratios.end());
  fmt::print("{}: {:.1f} % of the speed with the screen ({} pictures in {:.2f} s)\n", line,
             100 * ratios[4], drawn, at_once);
}

}  // namespace

int main() {
  std::setlocale(LC_CTYPE, "C.UTF-8");
  after_a_step();
  while_it_runs(LUCID_KILN "/images/kiln-og.elf", LUCID_KILN "/kiln.bench.toml", "go for 600 s");
  while_it_runs(LUCID_IMAGES "/integer-O2.elf", "", "go for 120 s");
}
