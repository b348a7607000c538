// SPDX-License-Identifier: MIT
// Any bytes from an editor: the reader of messages, and an adapter with an open image that gets
// what it gives, and each line as a message, too.
#include <cstdint>
#include <string>

#include "serve/adapter.h"
#include "serve/messages.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace lucid::app;
  const std::string text(reinterpret_cast<const char*>(data), size);
  Console::Options options;
  options.limit = {200'000'000};  // 200 us a run
  std::size_t sent = 0;
  Adapter adapter(options, [&](const std::string& message) {
    if (Json::parse(message, nullptr, false).is_discarded()) __builtin_trap();
    ++sent;
  });
  adapter.receive(
      R"({"seq":1,"type":"request","command":"launch","arguments":{"program":")" LUCID_KILN
      R"(/images/kiln-og.elf"}})");
  MessageReader reader;
  // In two pieces, as the network may give it.
  const std::string first = text.substr(0, size / 2);
  const auto take = [&](std::string message) { adapter.receive(std::move(message)); };
  if (reader.feed(first, take)) (void)reader.feed(text.substr(size / 2), take).has_value();
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find('\n', at), text.size());
    adapter.receive(text.substr(at, end - at));
    at = end + 1;
  }
  adapter.close();
  adapter.run();
  if (sent == 0) __builtin_trap();
  const auto back = from_base64(base64(text));
  if (!back || *back != text) __builtin_trap();
  return 0;
}
