// SPDX-License-Identifier: MIT
// Running the toolchain and other programs from tests.
#ifndef LUCID_TESTS_TOOLS_H
#define LUCID_TESTS_TOOLS_H

#include <sys/wait.h>
#include <cerrno>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <fstream>
#include <random>
#include <sstream>
#include <string>
#include <vector>

namespace test {

/// Long tests are shorter under sanitizers, which make them twenty times as slow.
#if defined(__SANITIZE_ADDRESS__)
constexpr bool kSanitized = true;
#elif defined(__has_feature)
#if __has_feature(address_sanitizer)
constexpr bool kSanitized = true;
#else
constexpr bool kSanitized = false;
#endif
#else
constexpr bool kSanitized = false;
#endif

/// … and at `./check --quick`.
inline bool is_short() { return kSanitized || std::getenv("LUCID_QUICK") != nullptr; }

struct Output {
  int code = -1;
  std::string text;
};

/// Runs a shell command; standard error is part of the text.
inline Output run(const std::string& command) {
  Output out;
  FILE* pipe = popen((command + " 2>&1").c_str(), "r");
  if (pipe == nullptr) return out;
  char buffer[4096];
  for (std::size_t n = 0; (n = fread(buffer, 1, sizeof buffer, pipe)) > 0;)
    out.text.append(buffer, n);
  const int status = pclose(pipe);
  out.code = WIFEXITED(status) ? WEXITSTATUS(status) : 128;
  return out;
}

inline std::string scratch(const std::string& name) {
  return std::string(LUCID_SCRATCH) + "/" + name;
}

/// A world at the end of something: `./check` compares the lists of two builds, which share their
/// seed.
inline void record(std::uint64_t hash) {
  static std::ofstream out(scratch(std::string("hashes-") + program_invocation_short_name));
  out << hash << std::endl;
}

inline void write(const std::string& path, const std::string& text) {
  std::ofstream(path, std::ios::binary) << text;
}

inline std::string read(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  std::stringstream out;
  out << in.rdbuf();
  return out.str();
}

inline std::vector<std::uint8_t> bytes(const std::string& path) {
  const std::string text = read(path);
  return {text.begin(), text.end()};
}

/// An image from assembly (as avr-gcc takes it, registers by name), without start-up code.
inline std::string assembled(const std::string& name, const std::string& source,
                             const std::string& mcu = "atmega328p") {
  const std::string path = scratch(name);
  write(path + ".S", "#include <avr/io.h>\n#define IO(r) _SFR_IO_ADDR(r)\n" + source);
  const Output built =
      run("avr-gcc -nostdlib -gdwarf-4 -mmcu=" + mcu + " -o " + path + ".elf " + path + ".S");
  if (built.code != 0) std::fprintf(stderr, "%s\n", built.text.c_str());
  return path + ".elf";
}

/// An image from C, with start-up code.
inline std::string compiled(const std::string& name, const std::string& source,
                            const std::string& flags, const std::string& mcu = "atmega328p") {
  const std::string path = scratch(name);
  write(path + ".c", source);
  const Output built = run("avr-gcc " + flags + " -DF_CPU=16000000UL -mmcu=" + mcu + " -o " + path +
                           ".elf " + path + ".c");
  if (built.code != 0) std::fprintf(stderr, "%s\n", built.text.c_str());
  return path + ".elf";
}

/// The seed that is new in each run: LUCID_SEED, which ./check chooses and prints, or a random one.
inline unsigned fresh_seed() {
  const char* chosen = std::getenv("LUCID_SEED");
  return chosen != nullptr ? static_cast<unsigned>(std::strtoul(chosen, nullptr, 10))
                           : std::random_device{}();
}

inline const std::string kKilnOg = std::string(LUCID_KILN) + "/images/kiln-og.elf";
inline const std::string kKilnOs = std::string(LUCID_KILN) + "/images/kiln-os.elf";

}  // namespace test

#endif  // LUCID_TESTS_TOOLS_H
