// What somebody else's program looks like that uses the installed library.
#include <lucid/session.h>
#include <cstdio>

int main(int argc, char** argv) {
  auto chip = lucid::Chip::make({"ATmega328P", 16'000'000});
  if (!chip || argc != 2) return 1;
  lucid::Session session(std::move(*chip));
  if (auto opened = session.open(argv[1]); !opened) {
    std::fprintf(stderr, "%s\n", opened.error().text().c_str());
    return 1;
  }
  auto pause = session.go_to("main");
  std::printf("%s\n", pause ? pause->where.function.c_str() : pause.error().text().c_str());
  return pause && pause->where.function == "main" ? 0 : 1;
}
