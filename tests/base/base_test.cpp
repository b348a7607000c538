// SPDX-License-Identifier: MIT
// Times and frequencies: read, written, converted; rounding as documented.
#include <catch2/catch.hpp>

#include "lucid/time.h"

using namespace lucid;

TEST_CASE("times are read with their unit and written for people") {
  struct Row {
    const char* text;
    std::uint64_t picoseconds;
    const char* written;
  };
  const Row rows[] = {{"0s", 0, "0 s"},
                      {"1ps", 1, "1 ps"},
                      {"62.5ns", 62'500, "62.500 ns"},
                      {"250 us", 250'000'000, "250.000 us"},
                      {"20ms", 20'000'000'000, "20.000 ms"},
                      {"1.5 s", 1'500'000'000'000, "1.500 s"},
                      {"10min", 600'000'000'000'000, "10 min 00.000 s"},
                      {"1h", 3'600'000'000'000'000, "60 min 00.000 s"},
                      {"0.000001ms", 1'000, "1.000 ns"}};
  for (const Row& row : rows) {
    INFO(row.text);
    const auto time = parse_time(row.text);
    REQUIRE(time);
    CHECK(time->count == row.picoseconds);
    CHECK(to_text(*time) == row.written);
  }
  for (const char* bad : {"", "20", "ms", "20 parsecs", "-1s", "1.2.3s", "1e3s",
                          "99999999999999999999s", "300000h", "1.0000000000001s"}) {
    INFO(bad);
    const auto time = parse_time(bad);
    REQUIRE_FALSE(time);
    CHECK(time.error().hint.find("20ms") != std::string::npos);
  }
}

TEST_CASE("frequencies from 1 Hz to 1 GHz") {
  CHECK(*parse_frequency("16MHz") == 16'000'000);
  CHECK(*parse_frequency("14.7456 MHz") == 14'745'600);
  CHECK(*parse_frequency("32768 Hz") == 32'768);
  CHECK(*parse_frequency("8000000") == 8'000'000);
  CHECK(parse_frequency("16").error().hint == "16MHz, 16kHz or 16Hz?");
  CHECK(*parse_frequency("31.25khz") == 31'250);
  for (const char* bad : {"", "0", "2000MHz", "fast", "16 MB"}) CHECK_FALSE(parse_frequency(bad));
}

TEST_CASE("ticks and time: down to a picosecond one way, never too short the other") {
  for (const std::uint64_t hz :
       {1ULL, 32'768ULL, 8'000'000ULL, 14'745'600ULL, 16'000'000ULL, 1'000'000'000ULL}) {
    for (const std::uint64_t ticks : {0ULL, 1ULL, 2ULL, 3ULL, 999ULL, 32'767ULL, 123'456'789ULL}) {
      const Picoseconds time = to_time(ticks, hz);
      if (time.count == UINT64_MAX) continue;  // clamped: more than 213 days
      // The next tick begins later than a picosecond after it.
      CHECK(to_ticks(time, hz) <= ticks);
      CHECK(to_ticks({time.count + 1}, hz) >= ticks);
    }
  }
  CHECK(to_ticks({1'000'000'000'000}, 16'000'000) == 16'000'000);
  CHECK(to_time(UINT64_MAX, 1).count == UINT64_MAX);  // clamped, not wrapped
}
