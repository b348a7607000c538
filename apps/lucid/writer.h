// SPDX-License-Identifier: MIT
// Writer: how answers leave the program. One for people, one for programs.
#ifndef LUCID_APP_WRITER_H
#define LUCID_APP_WRITER_H

#include <cstdint>
#include <memory>
#include <optional>
#include <ostream>
#include <string>

#include "reply.h"
#include "style.h"

namespace lucid::app {

enum class Output : std::uint8_t { kText, kJson };

class Writer {
 public:
  virtual ~Writer() = default;
  /// A command begins; `id` is what its answer is to carry, as JSON. Commands within it have none.
  virtual void begin(const std::string& id, const std::string& prompt,
                     const std::string& command) = 0;
  virtual void reply(const Reply& reply) = 0;
  /// What has gone wrong with a command that somebody has typed; answers carry it themselves.
  virtual void error(const Error& /*error*/) {}
  /// Bytes that a port has sent; `first` if it is the chip's first.
  virtual void serial(const std::string& port, bool first, const std::string& bytes) = 0;
  /// The program pauses: what it has sent of a line is shown, too.
  virtual void pause_serial() {}
  virtual void progress(const std::string& /*now*/) {}
  /// The command that began has been carried out, or has failed.
  virtual void end(const Result<void>& result) = 0;
};

/// JSON, one object a line; see docs/json.md.
std::unique_ptr<Writer> json_writer(std::ostream& out);
/// `{"id": 7, "command": "step over"}`: a line of a program that drives `lucid`.
struct JsonCommand {
  std::string id;  ///< as JSON; empty if there is none
  std::string command;
};
/// Nothing if it is not that.
std::optional<JsonCommand> json_command(const std::string& line);

struct TextStyle {
  Palette palette = Palette::kNone;
  bool terminal = false;      ///< progress may be drawn over, and the width is the terminal's
  bool utf8 = true;           ///< more than ASCII can be shown
  bool echo = false;          ///< commands are shown, as in scripts
  bool plain_serial = false;  ///< the first port's bytes go out as they are
};
std::unique_ptr<Writer> text_writer(std::ostream& out, const TextStyle& style);

/// The prompt with its colours, for the terminal's line editor, which is told what takes no room.
std::string drawn_prompt(const std::string& prompt, const TextStyle& style);
/// What ends the appearance of typed text.
std::string prompt_end(const TextStyle& style);

}  // namespace lucid::app

#endif  // LUCID_APP_WRITER_H
