// SPDX-License-Identifier: MIT
// Draws a pin of a program, by the installed package with its component `plot`.
#include <lucid/plot.h>
#include <lucid/session.h>

int main(int, char** argv) {
  lucid::Session session(*lucid::Chip::make({"ATmega328P", 16'000'000}));
  if (!session.open(argv[1]) || !session.trace({"pin.PB0"})) return 1;
  session.go_for(lucid::Picoseconds{300'000'000'000});
  lucid::PlotOptions options;
  options.to = session.chip().time();
  const auto picture = lucid::plot(session.signals(), lucid::PictureKind::kPng, options);
  return picture && picture->substr(1, 3) == "PNG" ? 0 : 1;
}
