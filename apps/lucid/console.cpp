// SPDX-License-Identifier: MIT
#include "console.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <iostream>
#include <thread>
#include <utility>

#include "output.h"

namespace lucid::app {

int exit_code(ErrorCode code) {
  switch (code) {
    case ErrorCode::kUsage: return kExitUsage;
    case ErrorCode::kNotFound: return kExitNotFound;
    case ErrorCode::kBadImage: return kExitBadImage;
    case ErrorCode::kUnsupported: return kExitUnsupported;
    case ErrorCode::kOutOfRange: return kExitOutOfRange;
    case ErrorCode::kIo: return kExitIo;
  }
  return kExitUsage;
}

Console::Console(Options options, std::ostream& out)
    : options_(std::move(options)), out_(out), style_(options_.colour) {}

Result<void> Console::open(const std::string& path) {
  auto image = Image::open(path);
  if (!image) return fail(image.error());
  Bench bench;
  if (!options_.bench.empty()) {
    auto read = Bench::open(options_.bench, options_.on);
    if (!read) return fail(read.error());
    bench = std::move(*read);
  }
  Chip::Options& chip_options = bench.chip;
  const bool chip_is_known = !options_.chip.empty() || bench.names_chip || !image->chip().empty();
  if (!options_.chip.empty())
    chip_options.name = options_.chip;
  else if (!bench.names_chip && !image->chip().empty())
    chip_options.name = image->chip();
  if (options_.clock_hz) chip_options.clock_hz = *options_.clock_hz;
  std::string belongs_to;  // the image, to another chip of the bench
  for (const Chip::Companion& companion : chip_options.companions) {
    std::error_code failed;
    if (std::filesystem::equivalent(companion.image.name(), path, failed))
      belongs_to = companion.name;
  }
  auto chip = Chip::make(chip_options);
  if (!chip) {
    Error error = chip.error();
    if (error.what.find("no chip") != std::string::npos && options_.chip.empty() &&
        !bench.names_chip)
      error.what = path + " was built for another chip: " + error.what;
    return fail(std::move(error));
  }
  auto session = std::make_unique<Session>(std::move(*chip));
  for (const std::string& folder : options_.source_folders) session->add_source_folder(folder);
  session->set_listener(this);
  auto warnings = session->open(path);
  if (!warnings) return fail(warnings.error());
  session_ = std::move(session);
  session_->set_limit(options_.limit);
  set_pace();
  serial_.clear();
  serial_lines_.clear();
  const std::string& core = image->core();
  if (!chip_is_known)
    warnings->push_back(
        fmt::format("the image does not say its chip{}: taken for {}; choose with --chip{}",
                    core.empty() ? "" : ", only the core " + core, chip_options.name,
                    core.empty() ? "" : ", of that core or " + core + " itself"));
  if (!belongs_to.empty())
    warnings->push_back("on the bench this is the image of '" + belongs_to +
                        "'; to debug that chip: --on " + belongs_to);
  for (const std::string& warning : *warnings) show(Warning{warning});
  return {};
}

Result<void> Console::need_session() const {
  if (session_ != nullptr) return {};
  return fail(ErrorCode::kUsage, "no image is open", "begin with: open main.elf");
}

namespace {

/// A command without its comment and the blanks around it; tabs outside of texts are blanks.
std::string stripped(std::string line) {
  bool quoted = false;
  for (std::size_t i = 0; i < line.size(); ++i) {
    if (quoted && line[i] == '\\') {
      ++i;
    } else if (line[i] == '"') {
      quoted = !quoted;
    } else if (line[i] == '#' && !quoted) {
      line.resize(i);
    } else if (line[i] == '\t' && !quoted) {
      line[i] = ' ';
    }
  }
  while (!line.empty() && std::isspace(static_cast<unsigned char>(line.back())) != 0)
    line.pop_back();
  return line.erase(0, std::min(line.find_first_not_of(' '), line.size()));
}

}  // namespace

Result<void> Console::execute(const std::string& whole) {
  std::string line = stripped(whole);
  if (line.empty()) {
    if (!whole.empty() || repeat_.empty()) return {};
    line = repeat_;
  }
  const bool outermost = !busy_.exchange(true);
  auto done = carry_out(line);
  if (outermost) busy_ = false;
  return done;
}

void Console::interrupt() {
  interrupted_ = true;
  if (session_ != nullptr) session_->request_pause();
}

Result<void> Console::carry_out(const std::string& line) {
  if (options_.echo && !options_.json) write(style_.bold(prompt() + line) + "\n");
  std::size_t rest = 0;
  const Command* command = find_command(line, rest);
  if (command == nullptr) {
    std::vector<std::string> names;
    for (const Command& c : commands()) names.emplace_back(c.name);
    const std::string word = line.substr(0, line.find(' '));
    std::string hint = "`help` lists the commands";
    const auto close = std::find_if(names.begin(), names.end(), [&](const std::string& n) {
      return word.size() > 1 && n.rfind(word, 0) == 0;
    });
    if (close != names.end()) hint = "did you mean `" + *close + "`?";
    const auto begins = [&](const char* with) { return line.rfind(with, 0) == 0; };
    if (close == names.end()) {
      // One slip of the fingers in the first word.
      for (const std::string& n : names) {
        const std::string first = n.substr(0, n.find(' '));
        std::size_t same = 0;
        while (same < first.size() && same < word.size() && first[same] == word[same]) ++same;
        if (word.size() > 2 && same + 2 >= std::max(first.size(), word.size()))
          hint = "did you mean `" + first + "`?";
      }
    }
    if (begins("back") || begins("trace") || begins("plot") || begins("mark"))
      hint = "it is planned, not built yet";
    return fail(ErrorCode::kUsage, "there is no command '" + word + "'", hint);
  }
  if (command->needs_session)
    if (auto ready = need_session(); !ready) return ready;
  command_began_ = std::chrono::steady_clock::now();
  began_at_ = session_ != nullptr ? session_->chip().time().count : 0;
  const std::string name = command->name;
  if (name.rfind("step", 0) == 0 || name.rfind("go", 0) == 0) repeat_ = line;
  auto done = (this->*command->run)(line.substr(rest));
  flush_serial();
  return done;
}

Result<void> Console::play(const std::string& path) {
  constexpr unsigned kMostDepth = 8;
  if (play_depth_ >= kMostDepth)
    return fail(ErrorCode::kUsage, "scripts play each other more than 8 deep",
                "does one play itself?");
  std::error_code unknown;
  std::ifstream in(path);
  if (!in)
    return fail(ErrorCode::kNotFound, "cannot read the script '" + path + "'", "check the path");
  if (std::filesystem::is_directory(path, unknown))
    return fail(ErrorCode::kIo, "'" + path + "' is a folder, not a script");
  const std::string outer = script_folder_;
  const std::size_t slash = path.rfind('/');
  script_folder_ = slash == std::string::npos ? "" : path.substr(0, slash + 1);
  ++play_depth_;
  Result<void> result;
  std::string line;
  for (unsigned number = 1; std::getline(in, line) && !finished_; ++number) {
    if (number == 1 && line.rfind("\xef\xbb\xbf", 0) == 0) line.erase(0, 3);  // byte order mark
    if (line.empty()) {  // a blank line is only that: repeating is for the prompt
      if (options_.echo && !options_.json) out_ << "\n";
      continue;
    }
    auto done = execute(line);
    if (done && !interrupted_) continue;
    Error error = done ? Error{ErrorCode::kUsage, "interrupted", "", ""} : done.error();
    error.where =
        fmt::format("{}:{}{}", path, number, error.where.empty() ? "" : ", " + error.where);
    result = fail(std::move(error));
    break;
  }
  if (in.bad())
    result = fail(ErrorCode::kIo, "the script '" + path + "' cannot be read to its end");
  --play_depth_;
  script_folder_ = outer;
  return result;
}

Pause Console::run_for(Picoseconds span) {
  command_began_ = std::chrono::steady_clock::now();
  began_at_ = session_->chip().time().count;
  session_->set_limit({});
  busy_ = true;
  Pause pause = session_->go_for(span);
  busy_ = false;
  session_->set_limit(options_.limit);
  return pause;
}

std::string Console::prompt() const {
  return session_ == nullptr ? "> " : to_text(session_->pause().time) + "> ";
}

std::vector<std::string> Console::completions(const std::string& line) const {
  std::vector<std::string> out;
  const std::size_t space = line.rfind(' ');
  for (const Command& c : commands()) {
    const std::string name = c.name;
    if (name.size() <= line.size() || name.rfind(line, 0) != 0) continue;
    // The word under way only.
    const std::size_t from = space == std::string::npos ? 0 : space + 1;
    const std::size_t end = name.find(' ', line.size());
    out.push_back(name.substr(from, end == std::string::npos ? end : end - from));
  }
  if (line.rfind("show ", 0) == 0 && line.find(' ', 5) == std::string::npos)
    for (const char* what :
         {"registers", "flags",   "ram",     "flash",  "eeprom", "stack",       "callers",
          "variables", "globals", "watches", "faults", "source", "disassembly", "mixed",
          "io",        "pins",    "parts",   "serial", "time",   "watches",     "faults"})
      if (std::string(what).rfind(line.substr(5), 0) == 0) out.emplace_back(what);
  if (space != std::string::npos && session_ != nullptr) {
    const auto names = session_->names(line.substr(space + 1));
    out.insert(out.end(), names.begin(), names.end());
  }
  std::sort(out.begin(), out.end());
  out.erase(std::unique(out.begin(), out.end()), out.end());
  return out;
}

std::string Console::escaped(const std::string& text) const {
  return visible(text, style_.on(), options_.utf8);
}

void Console::write(const std::string& text) {
  if (progress_drawn_) out_ << "\r\x1b[K";
  progress_drawn_ = false;
  out_ << escaped(text) << std::flush;
}

void Console::show(const Reply& reply) {
  if (!options_.json)
    write(to_text(reply, style_));
  else
    out_ << to_json(reply) << std::flush;
}

void Console::show_error(const Error& error) {
  if (options_.json)
    out_ << error_to_json(error) << std::flush;
  else
    write(style_.bad(error.text()) + "\n");
}

/// The first port's bytes as they come, where that is wanted; else whole lines, with their port if
/// it is another one.
void Console::on_serial(const std::string& port, const std::string& bytes) {
  for (const auto& end : ends_)
    if (end->port() == port) {
      end->write(bytes);
      return;
    }
  const bool companion = port.find('.') != std::string::npos;
  if (!companion) serial_ += bytes;
  if (options_.json) return;  // `show serial` has it
  if (plain_serial_ && port == first_port()) {
    // Raw into files and pipes; on a terminal nothing acts.
    const auto shown = [&](std::string text) {
      if (!options_.terminal) return text;
      text.erase(std::remove(text.begin(), text.end(), '\r'), text.end());
      return visible(text, false, options_.utf8);
    };
    const std::size_t end = bytes.rfind('\n');
    if (end != std::string::npos) {
      out_ << shown(bytes.substr(0, end + 1));
      serial_line_open_ = false;
      out_ << std::exchange(serial_waiting_, {});
    }
    const std::string rest = bytes.substr(end + 1);
    serial_line_open_ = serial_line_open_ || !rest.empty();
    out_ << shown(rest) << std::flush;
    return;
  }
  for (const char c : bytes) {
    if (c == '\n') {
      write_serial_line(port);
    } else if (c != '\r') {
      serial_lines_[port] += std::isprint(static_cast<unsigned char>(c)) != 0
                                 ? std::string(1, c)
                                 : fmt::format("\\x{:02x}", static_cast<unsigned char>(c));
    }
  }
}

Result<void> Console::attach(const std::string& phrase) {
  const std::string port = phrase.substr(0, phrase.find(' '));
  if (auto known = session_->feed(port, ""); !known) return known;
  const auto same = [&](const std::unique_ptr<SerialEnd>& end) { return end->port() == port; };
  std::unique_ptr<SerialEnd> end;
  if (phrase != port + " nothing") {
    auto opened = SerialEnd::open(phrase);
    if (!opened) return fail(opened.error());
    end = std::move(*opened);
  }
  tell_lost();
  ends_.erase(std::remove_if(ends_.begin(), ends_.end(), same), ends_.end());
  if (end != nullptr) {
    const std::string where = fmt::format("{} is at {}", port, end->path());
    if (end->is_paced() && plain_serial_)
      std::cerr << where << std::endl;  // the other stream is the firmware's
    else if (end->is_paced())
      show(Message{where});
    else if (auto fed = session_->feed(port, end->read()); !fed)
      return fed;
    ends_.push_back(std::move(end));
  }
  set_pace();
  return {};
}

void Console::tell_lost() {
  for (const auto& end : ends_)
    if (end->lost() != 0)
      show(Warning{fmt::format("{} bytes from {} were not taken by who is at {}", end->lost(),
                               end->port(), end->path())});
}

void Console::set_pace() {
  constexpr std::uint64_t kMillisecond = 1'000'000'000;
  const bool paced = options_.pace || std::any_of(ends_.begin(), ends_.end(),
                                                  [](const auto& end) { return end->is_paced(); });
  if (session_ != nullptr) session_->set_pace({paced ? kMillisecond : 0});
}

/// Not before its time by the clock on the wall.
std::vector<SerialText> Console::on_pace(Picoseconds now) {
  std::this_thread::sleep_until(command_began_ +
                                std::chrono::nanoseconds((now.count - began_at_) / 1000));
  std::vector<SerialText> out;
  for (const auto& end : ends_)
    if (std::string bytes = end->read(); !bytes.empty())
      out.push_back({end->port(), std::move(bytes)});
  return out;
}

std::string Console::first_port() const {
  if (session_ == nullptr || session_->chip().info().serial_ports.empty()) return {};
  return session_->chip().info().serial_ports.front();
}

void Console::write_serial_line(const std::string& port) {
  const std::string line = std::exchange(serial_lines_[port], {});
  if (line.empty()) return;
  if (progress_drawn_) out_ << "\r\x1b[K";
  progress_drawn_ = false;
  const std::string owner = port == first_port() ? "" : port + ": ";
  if (!plain_serial_)
    out_ << style_.dim("  serial: ") << owner << line << "\n";
  else if (serial_line_open_)
    serial_waiting_ += style_.dim(owner) + line + "\n";
  else
    out_ << style_.dim(owner) << line << "\n" << std::flush;
}

void Console::flush_serial() {
  end_serial_line();
  for (auto& [port, line] : serial_lines_) write_serial_line(port);
}

void Console::on_note(const std::string& text) {
  end_serial_line();
  show(Warning{text});
}

void Console::end_serial_line() {
  if (std::exchange(serial_line_open_, false)) out_ << "\n";
  out_ << std::exchange(serial_waiting_, {});
}
void Console::on_message(const std::string& text) { show(Message{"  log: " + text}); }

void Console::on_progress(Picoseconds now) {
  if (!options_.terminal || options_.json) return;
  const auto clock = std::chrono::steady_clock::now();
  if (clock - command_began_ < std::chrono::seconds(1) ||
      clock - progress_at_ < std::chrono::milliseconds(100))
    return;
  progress_at_ = clock;
  out_ << "\r\x1b[K" << style_.dim("  running: " + to_text(now) + " (Ctrl-C pauses)") << std::flush;
  progress_drawn_ = true;
}

Result<void> Console::stand(const Pause& pause) {
  Standing standing;
  standing.pause = pause;
  if (unit_ == StepUnit::kLine && !pause.where.file.empty()) {
    if (auto source = session_->source("here", 2)) standing.source = *source;
  } else if (auto rows =
                 session_->disassembly("here", pause.cause == Pause::Cause::kReady ? 2 : 8)) {
    standing.disassembly = *rows;
  }
  if (pause.cycles_since != 0)
    for (VariableView& v : session_->globals())
      if (v.value != v.before) standing.changed.push_back(std::move(v));
  standing.watches = session_->watches();
  flush_serial();
  show(standing);
  // What a breakpoint has to be followed by. It may run on to the next pause, not for ever.
  constexpr unsigned kMostDepth = 1000;
  if (then_depth_ >= kMostDepth) {
    show(Warning{"`then` has followed `then` 1000 times: it ends here"});
    return {};
  }
  ++then_depth_;
  const std::vector<std::string> commands = pause.then;
  for (const std::string& command : commands)
    if (auto done = interrupted_ ? Result<void>() : execute(command); !done)
      show(Warning{"then \"" + command + "\": " + done.error().text()});
  --then_depth_;
  if (pause.cause == Pause::Cause::kLimit)
    return fail(ErrorCode::kOutOfRange, "nothing has paused the program within " + pause.detail,
                "give it an end (`go for`, a breakpoint), or more time: --limit 2h");
  return {};
}

std::string Console::beside(const std::string& path) const {
  return path.empty() || path[0] == '/' ? path : script_folder_ + path;
}

}  // namespace lucid::app
