// SPDX-License-Identifier: MIT
// Commands by which the world outside acts on the chip.
#include <fmt/format.h>

#include <filesystem>

#include "console.h"
#include "output.h"

namespace lucid::app {

Result<void> Console::do_drive(const Words& words) {
  std::string pin = words.text("PIN");
  if (pin.rfind("pin.", 0) == 0) pin = pin.substr(4);
  const bool timed = words.has("for");
  Picoseconds span;
  if (timed) {
    const auto time = parse_time(words.text("TIME"));
    if (!time) return fail(time.error());
    span = *time;
  }
  if (const std::string text = words.text("VOLTS"); !text.empty()) {
    const auto microvolts = parse_voltage(text);
    if (!microvolts) return fail(microvolts.error());
    const double volts = *microvolts / 1e6;
    return timed ? session_->apply_voltage_for(pin, volts, span)
                 : session_->apply_voltage(pin, volts);
  }
  if (words.has("open") && timed)
    return fail(ErrorCode::kUsage, "`for` goes with low, high and voltages",
                "it says when to let go; `open` lets go now");
  if (words.has("open")) return session_->drive(pin, std::nullopt);
  const bool level = words.has("high");
  return timed ? session_->drive_for(pin, level, span) : session_->drive(pin, level);
}

Result<void> Console::do_press(const Words& words) {
  return session_->act(words.text("PART"), "press");
}

Result<void> Console::do_release(const Words& words) {
  return session_->act(words.text("PART"), "release");
}

Result<void> Console::do_turn(const Words& words) {
  return session_->act(words.text("PART"), "turn", words.text("SETTING"));
}

Result<void> Console::do_feed(const Words& words) {
  const std::string port = words.text("PORT");
  if (words.has("frame")) {
    std::string text = words.text("DATA");
    for (const char* wrong : {"wrong-parity", "no-stop-bit"})
      if (words.has(wrong)) text += std::string(" ") + wrong;
    const auto frame = parse_serial_frame(text);
    return frame ? session_->feed_frame(port, *frame) : fail(frame.error());
  }
  auto text = unquoted(words.text("TEXT"));
  if (!text) return fail(text.error());
  return session_->feed(port, *text);
}

Result<void> Console::do_attach(const Words& words) {
  std::string phrase = words.text("PORT");
  for (const Words::Item& item : words.items())
    if (item.kind == nullptr && item.text != "attach") phrase += " " + item.text;
  if (words.has("socket")) phrase += " " + words.text("N");
  for (std::size_t i = 0; i < words.texts("FILE").size(); ++i) phrase += " " + file(words, i);
  return attach(phrase);
}

Result<void> Console::do_transfer(const Words& words) {
  std::string text;
  for (const Words::Item& item : words.items())
    if (&item != &words.items().front()) text += (text.empty() ? "" : " ") + item.text;
  const auto transfer = parse_two_wire_transfer(text);
  return transfer ? session_->transfer(*transfer) : fail(transfer.error());
}

Result<void> Console::do_inputs(const Words& words) {
  const auto& inputs = session_->inputs();
  if (!words.has("save")) {
    show(Inputs{inputs});
    return {};
  }
  std::string text;
  for (const Input& input : inputs) text += "\n" + Bench::table(input, options_.on);
  const std::string path = file(words);
  std::string head;
  if (!options_.bench.empty()) {  // as its neighbour sees it
    namespace fs = std::filesystem;
    std::error_code unknown;
    const fs::path folder = fs::absolute(path, unknown).parent_path();
    const fs::path bench = fs::proximate(fs::absolute(options_.bench, unknown), folder, unknown);
    head = "include = [" + quoted(bench.string()) + "]\n";
  }
  if (auto written = write_file(path, head + text); !written) return written;
  show(Message{fmt::format("{} input{} written into {}", inputs.size(),
                           inputs.size() == 1 ? "" : "s", path)});
  return {};
}

}  // namespace lucid::app
