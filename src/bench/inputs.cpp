// SPDX-License-Identifier: MIT
// Inputs as tables of a bench file.
#include <fmt/format.h>
#include <fmt/ranges.h>

#include "lucid/bench.h"

namespace lucid {
namespace {

std::string quoted(const std::string& text) {
  std::string out = "\"";
  for (const char c : text) {
    if (c == '"' || c == '\\') out += '\\';
    out += c;
  }
  return out + '"';
}

std::string text_of(const TwoWireTransfer& transfer) {
  std::string text = fmt::format("0x{:02x}", transfer.address);
  if (!transfer.write.empty()) text += fmt::format(" write {:02x}", fmt::join(transfer.write, " "));
  if (transfer.read != 0) text += fmt::format(" read {}", transfer.read);
  return text;
}

std::string text_of(const SerialFrame& frame) {
  return fmt::format("{:#x}{}{}", frame.data & 0x1ffU, frame.wrong_parity ? " wrong-parity" : "",
                     frame.no_stop_bit ? " no-stop-bit" : "");
}

std::string hex_of(const std::string& bytes) {
  std::string out;
  for (const char c : bytes) out += fmt::format("{:02x} ", static_cast<unsigned char>(c));
  return out;
}

std::string what(const Input& input) {
  if (input.transfer) return fmt::format("transfer = \"{}\"\n", text_of(*input.transfer));
  if (input.reset) return "reset = \"external\"\n";
  if (!input.part.empty())
    return fmt::format("part = {}\naction = {}\n{}", quoted(input.part), quoted(input.action),
                       input.value.empty() ? "" : "value = " + quoted(input.value) + "\n");
  if (input.frame)
    return fmt::format("serial = {}\nframe = \"{}\"\n", quoted(input.serial),
                       text_of(*input.frame));
  if (!input.serial.empty())
    return fmt::format("serial = {}\nhex = \"{}\"\n", quoted(input.serial), hex_of(input.bytes));
  const std::string pin = "pin = " + quoted(input.pin) + "\n";
  if (input.microvolts) return pin + fmt::format("volts = \"{:.6f}V\"\n", *input.microvolts / 1e6);
  const char* const level = !input.level ? "open" : *input.level ? "high" : "low";
  return pin + fmt::format("level = \"{}\"\n", level);
}

}  // namespace

std::string Bench::table(const Input& input, const std::string& on) {
  return fmt::format("[[input]]\nat = \"{}ps\"\n{}{}", input.at.count, what(input),
                     on.empty() ? "" : "on = " + quoted(on) + "\n");
}

}  // namespace lucid
