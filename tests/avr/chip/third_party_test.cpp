// SPDX-License-Identifier: MIT
// Firmware that nobody here wrote, from Debian's arduino-core-avr: sketches on its core and
// libraries, and boot loaders as it ships them. What must be seen follows from its sources:
// dividers and modes it sets, texts it prints, bytes of its protocols.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <filesystem>

#include "lucid/bench.h"
#include "tools.h"

using namespace lucid;

namespace {

const std::string kFolder = "/usr/share/arduino/hardware/arduino/avr";

struct Board {
  const char* chip;
  const char* mcu;
  const char* variant;
  const char* define;
};
constexpr Board kUno{"ATmega328P", "atmega328p", "standard", "ARDUINO_AVR_UNO"};
constexpr Board kMega{"ATmega2560", "atmega2560", "mega", "ARDUINO_AVR_MEGA2560"};

/// A sketch with the core and the libraries, each compiled once for a board.
std::string built(const Board& board, const std::string& name, const std::string& sketch) {
  const std::string folder = test::scratch(std::string("core-") + board.mcu);
  std::string flags = fmt::format(
      " -Os -g0 -w -mmcu={} -DF_CPU=16000000L -DARDUINO=10819 -DDECIMAL_DIG=__DECIMAL_DIG__ -D{} "
      "-DARDUINO_ARCH_AVR "
      "-I{}/cores/arduino "
      "-I{}/variants/{} -ffunction-sections -fdata-sections -fno-exceptions ",
      board.mcu, board.define, kFolder, kFolder, board.variant);
  for (const char* library : {"EEPROM", "SPI", "Wire", "Wire/src/utility", "SoftwareSerial"})
    flags += fmt::format("-I{0}/libraries/{1}{2} ", kFolder, library,
                         std::string(library).find('/') == std::string::npos ? "/src" : "");
  if (!std::filesystem::exists(folder + "/core.a")) {
    std::filesystem::create_directories(folder);
    const auto out = test::run(fmt::format(
        "(cd {} && for f in {}/cores/arduino/*.c {}/libraries/Wire/src/utility/*.c; do avr-gcc -c "
        "{} -std=gnu11 "
        "$f || exit 1; done; for f in {}/cores/arduino/*.cpp {}/libraries/*/src/*.cpp; do case $f "
        "in "
        "*HID*) ;; *) avr-g++ -c {} -std=gnu++11 $f || exit 1;; esac; done; avr-ar rcs core.a *.o)",
        folder, kFolder, kFolder, flags, kFolder, kFolder, flags));
    INFO(out.text);
    REQUIRE(out.code == 0);
  }
  const std::string path = folder + "/" + name;
  test::write(path + ".cpp", "#include <Arduino.h>\n" + sketch);
  const auto out = test::run(
      fmt::format("avr-g++ {} -std=gnu++11 -Wl,--gc-sections -o {}.elf {}.cpp {}/core.a -lm", flags,
                  path, path, folder));
  INFO(out.text);
  REQUIRE(out.code == 0);
  return path + ".elf";
}

Chip started(const Board& board, const std::string& elf) {
  Chip chip = *Chip::make({board.chip, 16'000'000});
  REQUIRE(chip.load(*Image::open(elf)).has_value());
  return chip;
}

bool level(const Chip& chip, const char* name) {
  for (const PinState& pin : chip.pins())
    if (pin.name == name) return pin.level;
  return false;
}

/// The end of a program: nothing was noted.
void no_notes(Chip& chip) {
  test::record(chip.hash());
  for (const std::string& note : chip.take_notes()) FAIL_CHECK(note);
}

}  // namespace

TEST_CASE("print, millis, micros and delay on both boards") {
  for (const Board& board : {kUno, kMega}) {
    Chip chip = started(board, built(board, "times", R"(
void setup() { Serial.begin(115200); Serial.println(F("hello")); }
void loop() {
  const unsigned long a = micros(); delay(25); const unsigned long b = micros();
  Serial.print((millis() + 2) / 25); Serial.print(' '); Serial.println((b - a) / 100);
}
)"));
    chip.run_for(16'000 * 130);
    CHECK(chip.take_serial_output().find("hello\r\n1 250\r\n2 250\r\n3 250\r\n") == 0);
    no_notes(chip);
  }
}

TEST_CASE("analogWrite: phase-correct and fast PWM with the core's divider of 64") {
  struct Row {
    Board board;
    unsigned pin;
    const char* name;
    unsigned period;  ///< ticks: fast 64 * 256, phase correct 64 * 510
    bool fast;
  };
  for (const Row& row : {Row{kUno, 5, "PD5", 16384, true}, Row{kUno, 6, "PD6", 16384, true},
                         Row{kUno, 9, "PB1", 32640, false}, Row{kUno, 3, "PD3", 32640, false},
                         Row{kMega, 2, "PE4", 32640, false}, Row{kMega, 44, "PL5", 32640, false},
                         Row{kMega, 4, "PG5", 16384, true}}) {
    INFO(row.board.chip << " pin " << row.pin);
    Chip chip = started(row.board, built(row.board, fmt::format("pwm{}", row.pin),
                                         fmt::format("void setup() {{ analogWrite({}, 64); }}\n"
                                                     "void loop() {{}}\n",
                                                     row.pin)));
    chip.run_for(100'000);
    const auto until = [&](bool high) {
      for (int i = 0; i < 10'000 && level(chip, row.name) != high; ++i) chip.run_for(16);
      return chip.cycles();
    };
    until(false);
    const std::uint64_t rise = until(true);
    const std::uint64_t fall = until(false);
    const std::uint64_t next = until(true);
    CHECK(std::llabs(static_cast<long long>(next - rise) - row.period) <= 40);
    const long long high = row.fast ? 64 * 65 : 64 * 128;
    CHECK(std::llabs(static_cast<long long>(fall - rise) - high) <= 40);
    no_notes(chip);
  }
}

TEST_CASE("Wire against a serial EEPROM: pages, acknowledge polling, sequential reads") {
  for (const Board& board : {kUno, kMega}) {
    const bool uno = std::string(board.chip) == "ATmega328P";
    for (const unsigned bytes : {256U, 32768U}) {
      INFO(board.chip << ", " << bytes << " bytes");
      auto bench = Bench::parse(
          fmt::format("[chip]\nname = \"{}\"\nclock = \"16MHz\"\n[[part]]\nname = \"memory\"\n"
                      "kind = \"two-wire-eeprom\"\nsda = \"{}\"\nscl = \"{}\"\naddress = 0x57\n"
                      "bytes = {}\n",
                      board.chip, uno ? "PC4" : "PD1", uno ? "PC5" : "PD0", bytes),
          "memory", ".");
      INFO((bench ? "" : bench.error().text()));
      REQUIRE(bench);
      Chip chip = *Chip::make(bench->chip);
      REQUIRE(chip.load(*Image::open(built(board, fmt::format("memory{}", bytes),
                                           fmt::format("#define WIDE {}\n", bytes > 256 ? 1 : 0) +
                                               R"(
#include <Wire.h>
void at(unsigned where) {
  Wire.beginTransmission(0x57);
  if (WIDE) Wire.write(where >> 8);
  Wire.write(where & 0xff);
}
void setup() {
  Serial.begin(115200);
  Wire.begin();
  Wire.setClock(400000);
  Wire.beginTransmission(0x20);
  Serial.println(Wire.endTransmission());  // 2: nobody there
  at(6);                                   // over the end of an 8-byte page, not of a 32-byte one
  Wire.write("kiln");
  Serial.println(Wire.endTransmission());
  unsigned polls = 0;
  unsigned long since = micros();
  do { ++polls; Wire.beginTransmission(0x57); } while (Wire.endTransmission() != 0);
  Serial.println((micros() - since + 50) / 100);  // 5 ms of programming
  at(0);
  Wire.endTransmission(false);
  Wire.requestFrom(0x57, 12);
  while (Wire.available()) { Serial.print(Wire.read(), HEX); Serial.print(' '); }
  Serial.println();
}
void loop() {}
)"))));
      chip.run_for(16'000 * 60);
      const std::string out = chip.take_serial_output();
      INFO(out);
      const std::string memory = bytes == 256 ? "6C 6E FF FF FF FF 6B 69 FF FF FF FF"
                                              : "FF FF FF FF FF FF 6B 69 6C 6E FF FF";
      CHECK(out.find("2\r\n0\r\n") == 0);
      CHECK(out.find(memory) != std::string::npos);
      const double tenths = std::stod(out.substr(6));
      CHECK(tenths >= 48);  // it began before the clock was read
      CHECK(tenths <= 52);
      CHECK(chip.parts()[0].state.find("1 page written") != std::string::npos);
      no_notes(chip);
    }
  }
}

TEST_CASE("analogRead, interrupts, tone, EEPROM, SPI, two-wire and software serial") {
  for (const Board& board : {kUno, kMega}) {
    const bool uno = std::string(board.chip) == "ATmega328P";
    Chip chip = started(board, built(board, "all", R"(
#include <EEPROM.h>
#include <SPI.h>
#include <SoftwareSerial.h>
#include <Wire.h>
volatile int falls;
void count() { ++falls; }
SoftwareSerial soft(10, 7);
void setup() {
  Serial.begin(115200);
  Serial.println(analogRead(A0));
  attachInterrupt(digitalPinToInterrupt(2), count, FALLING);
  EEPROM.write(3, 0x5a);
  Serial.println(EEPROM.read(3), HEX);
  SPI.begin();
  SPI.beginTransaction(SPISettings(4000000, MSBFIRST, SPI_MODE0));
  Serial.println(SPI.transfer(0x12), HEX);
  Wire.begin();
  Wire.beginTransmission(0x50);
  Serial.println(Wire.endTransmission());
  Serial.println(Wire.requestFrom(0x50, 1));
  soft.begin(9600);
  soft.write('U');
  tone(8, 1000);
}
void loop() { static int seen; if (falls != seen) { seen = falls; Serial.println(seen); } }
)"));
    REQUIRE(chip.apply_voltage(uno ? "PC0" : "PF0", 3.75));
    REQUIRE(chip.drive(uno ? "PB4" : "PB3", true));  // MISO
    REQUIRE(chip.drive(uno ? "PD2" : "PE4", true));
    // 'U' at 9600 baud: ten bits of 1667 ticks, alternating, low first.
    const char* soft = uno ? "PD7" : "PH4";
    const auto wait = [&](bool high) {
      for (int i = 0; i < 300'000 && level(chip, soft) != high; ++i) chip.run_for(10);
    };
    wait(true);
    wait(false);
    const std::uint64_t start = chip.cycles();
    for (int bit = 0; bit < 9; ++bit) {  // the start bit and eight of data
      wait(bit % 2 == 0);
      CHECK(std::llabs(static_cast<long long>(chip.cycles() - start) - 1667LL * (bit + 1)) < 60);
    }
    // 1000 Hz on pin 8: an edge every 500 us.
    const char* buzzer = uno ? "PB0" : "PH5";
    chip.run_for(16'000 * 20);
    unsigned edges = 0;
    bool last = level(chip, buzzer);
    for (const std::uint64_t end = chip.cycles() + 160'000; chip.cycles() < end;
         chip.run_for(100)) {
      edges += level(chip, buzzer) != last ? 1 : 0;
      last = level(chip, buzzer);
    }
    CHECK((edges == 20 || edges == 19 || edges == 21));
    for (int i = 0; i < 3; ++i) {
      for (const bool high : {false, true}) {
        REQUIRE(chip.drive(uno ? "PD2" : "PE4", high));
        chip.run_for(16'000);
      }
    }
    CHECK(chip.take_serial_output() == "768\r\n5A\r\nFF\r\n2\r\n0\r\n1\r\n2\r\n3\r\n");
    no_notes(chip);
  }
}

TEST_CASE("a shipped boot loader answers its protocol and programs a page") {
  Chip chip = *Chip::make({"ATmega328P", 16'000'000});
  REQUIRE(chip.load(*Image::open(kFolder + "/bootloaders/atmega/ATmegaBOOT_168_atmega328.hex")));
  chip.poke({Space::kFuse, 1}, 0xda);  // 1024 words, BOOTRST
  chip.reset();
  CHECK(chip.pc() == 0x7800);
  chip.run_for(16'000 * 300);
  const auto ask = [&](const std::string& bytes, std::size_t length) {
    (void)chip.take_serial_output();
    REQUIRE(chip.feed("USART0", bytes));
    std::string answer;
    for (int i = 0; i < 3000 && answer.size() < length; ++i) {
      chip.run_for(1600);
      answer += chip.take_serial_output();
    }
    return answer;
  };
  using namespace std::string_literals;
  CHECK(ask("0 "s, 2) == "\x14\x10");
  CHECK(ask("u "s, 5) == "\x14\x1e\x95\x0f\x10");  // the signature
  CHECK(ask("U\x80\x00 "s, 2) == "\x14\x10");      // word address 0x80
  std::string page;
  for (int i = 0; i < 128; ++i) page += static_cast<char>(i * 7 + 1);
  CHECK(ask("d\x00\x80"s + "F" + page + " ", 2) == "\x14\x10");
  for (unsigned i = 0; i < 128; ++i)
    CHECK(*chip.peek({Space::kCode, 0x100 + i}) == static_cast<std::uint8_t>(page[i]));
  CHECK(ask("U\x80\x00 "s, 2) == "\x14\x10");
  CHECK(ask("t\x00\x80"s + "F ", 130) == "\x14" + page + "\x10");
  no_notes(chip);
}

TEST_CASE("boot loaders that were built past the end of flash are refused") {
  for (const char* name : {"optiboot_atmega168.hex", "optiboot_atmega328.hex"}) {
    const auto image = Image::open(kFolder + "/bootloaders/optiboot/" + name);
    REQUIRE_FALSE(image.has_value());
    CHECK(image.error().text().find("is given a second time") != std::string::npos);
  }
}
