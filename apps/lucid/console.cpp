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
    : options_(std::move(options)),
      writer_(options_.output == Output::kJson ? json_writer(out)
                                               : text_writer(out, options_.style)) {}

Result<void> Console::open(const std::string& path) {
  auto image = Image::open(path);
  if (!image) return fail(image.error());
  Bench bench;
  if (!options_.bench.empty() || !options_.more_bench.empty()) {
    auto read = Bench::open(options_.bench, options_.on, options_.more_bench);
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
  std::map<std::string, std::string> companion_images;
  for (const Chip::Companion& companion : chip_options.companions) {
    companion_images[companion.name] = companion.image.name();
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
  session->set_timeline(options_.timeline);
  auto warnings = session->open(path);
  if (!warnings) return fail(warnings.error());
  session_ = std::move(session);
  companion_images_ = std::move(companion_images);
  tables_.clear();
  expectations_of_ = std::make_unique<Expectations>(*session_);
  session_->set_limit(options_.limit);
  set_pace();
  sent_ = {};
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
  return set_values();
}

/// Start-up code would undo what is set before main.
Result<void> Console::set_values() {
  if (options_.values.empty()) return {};
  if (auto there = session_->go_to("main"); !there) return fail(there.error());
  for (const std::string& value : options_.values) {
    const std::size_t equal = value.find(" = ");
    auto done = session_->let(value.substr(0, equal), value.substr(equal + 3));
    if (!done) return fail(done.error());
  }
  return {};
}

Result<std::unique_ptr<Session>> Console::companion(const std::string& name) const {
  auto copy = session_->chip().companion(name);
  if (!copy) return fail(copy.error());
  auto out = std::make_unique<Session>(std::move(*copy));
  for (const std::string& folder : options_.source_folders) out->add_source_folder(folder);
  if (auto adopted = out->adopt(companion_images_.at(name)); !adopted) return fail(adopted.error());
  return out;
}

Result<void> Console::answer(const std::string& name, const std::function<Result<void>()>& act) {
  return answer(name, "", "", act);
}

Result<void> Console::answer(const std::string& name, const std::string& id,
                             const std::string& prompt, const std::function<Result<void>()>& act) {
  const bool outermost = !busy_.exchange(true);
  if (outermost) {
    command_began_ = std::chrono::steady_clock::now();
    // What was before is gone through again at once.
    began_at_ = session_ != nullptr ? session_->chip().time().count + session_->behind().count : 0;
  }
  writer_->begin(!outermost ? "" : id.empty() ? std::to_string(answers_++) : id, prompt, name);
  auto done = act();
  if (outermost && !tables_.empty())
    if (auto written = write_tables(); done) done = written;
  writer_->pause_serial();
  writer_->end(done);
  if (outermost) busy_ = false;
  return done;
}

Result<void> Console::execute(const std::string& whole, const std::string& id) {
  std::string line = whole;
  if (tokens_of(line).empty()) {
    if (!whole.empty() || repeat_.empty()) return {};
    line = repeat_;
  }
  return answer(line, id, prompt(), [&] { return carry_out(line); });
}

void Console::interrupt() {
  interrupted_ = true;
  if (session_ != nullptr) session_->request_pause();
}

std::string Console::lengthened(const std::string& line) const {
  const auto tokens = tokens_of(line);
  if (tokens.empty()) return line;
  const std::string& first = tokens[0].text;
  const auto behind = [&](const std::string& words) {
    return words + line.substr(tokens[0].end, tokens.back().end - tokens[0].end);
  };
  if (const auto own = short_.find(first); own != short_.end()) return behind(own->second);
  for (const ShortWord& fixed : short_words())
    if (first == fixed.word) return behind(fixed.means);
  return line.substr(tokens[0].begin, tokens.back().end - tokens[0].begin);
}

namespace {

/// What to say of a first word that begins no command.
Error unknown_command(const std::string& word) {
  Error error{ErrorCode::kUsage, "there is no command '" + word + "'", "", ""};
  for (const Topic& topic : topics()) {
    const std::string also = std::string(" ") + topic.also + " ";
    if (word == topic.name || also.find(" " + word + " ") != std::string::npos)
      error.hint = fmt::format("`help {}` tells about {}", topic.name, topic.brief);
  }
  for (const Meaning& meaning : meanings())
    if (word == meaning.word)
      error.hint =
          fmt::format("there is `{}`: {}", meaning.command, find_command(meaning.command)->brief);
  if (!error.hint.empty()) return error;
  std::vector<std::string> names;
  for (const Command& c : commands()) {
    const std::string name = c.name;
    names.push_back(name.substr(0, name.find(' ')));
  }
  std::sort(names.begin(), names.end());
  names.erase(std::unique(names.begin(), names.end()), names.end());
  error.hint = did_you_mean(word, names);
  if (error.hint.empty()) error.hint = "`help` lists the commands";
  return error;
}

/// Would a command interfere with a run that is under way?
bool moves(const Command& command, const Words& words) {
  const std::string name = command.name;
  return command.group == Command::Group::kRun || command.group == Command::Group::kBack ||
         name == "open" || name == "reload" || name == "play" || words.has("start") ||
         (name == "expect" && !words.text("TIME").empty());
}

}  // namespace

bool Console::is_command(const std::string& line) {
  const auto tokens = tokens_of(line);
  if (tokens.empty()) return false;
  const std::string& first = tokens[0].text;
  for (const ShortWord& fixed : short_words())
    if (first == fixed.word) return true;
  return std::any_of(commands().begin(), commands().end(), [&](const Command& c) {
    const std::string name = c.name;
    return name.substr(0, name.find(' ')) == first;
  });
}

bool Console::is_mover(const std::string& line) const {
  const Values any = [&](const ArgumentKind& kind, const std::string& start) {
    return this->values(kind, start);
  };
  const auto read = command_grammar().read(lengthened(line), any);
  return read && moves(command_of_form(read->form), read->words);
}

Result<void> Console::carry_out(const std::string& line) {
  const Values values = [&](const ArgumentKind& kind, const std::string& start) {
    return this->values(kind, start);
  };
  const std::string text = lengthened(line);
  auto read = command_grammar().read(text, values);
  if (!read) {
    const std::string first = tokens_of(text)[0].text;
    return read.error().what.rfind(fmt::format("'{}' is not expected", first), 0) == 0
               ? fail(unknown_command(first))
               : fail(read.error());
  }
  const Command& command = command_of_form(read->form);
  if (command.needs_session && session_ == nullptr)
    return fail(ErrorCode::kUsage, "no image is open", "begin with: open main.elf");
  if (session_ != nullptr && session_->running() && moves(command, read->words))
    return fail(ErrorCode::kUsage,
                fmt::format("the program runs: `{}` would move it", command.name),
                "pause it first");
  if (command.repeats) repeat_ = line;
  return (this->*command.run)(read->words);
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
      if (options_.style.echo && options_.output == Output::kText) show(Message{""});
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
  if (result && play_depth_ == 1 && session_ != nullptr)  // what has to be so to the end
    if (const auto broken = expectations_of_->broken()) {
      Error error = missed(*broken).error();
      error.where = path + ", at its end";
      result = fail(std::move(error));
    }
  if (in.bad())
    result = fail(ErrorCode::kIo, "the script '" + path + "' cannot be read to its end");
  --play_depth_;
  script_folder_ = outer;
  return result;
}

Pause Console::run_for(Picoseconds span) {
  session_->set_limit({});
  Pause pause = session_->go_for(span);
  session_->set_limit(options_.limit);
  return pause;
}

std::string Console::prompt() const {
  if (session_ == nullptr) return "> ";
  const Picoseconds behind = session_->behind();
  return to_text(session_->pause().time) +
         (behind.count != 0 ? ", " + to_text(behind) + " back" : "") +
         (unit_ == StepUnit::kInstruction ? " by instruction> " : "> ");
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
    if (end->is_paced() && options_.style.plain_serial)
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
  on_progress(now);
  std::vector<SerialText> out;
  for (const auto& end : ends_)
    if (std::string bytes = end->read(); !bytes.empty())
      out.push_back({end->port(), std::move(bytes)});
  return out;
}

void Console::on_serial(const std::string& port, const std::string& bytes) {
  for (const auto& end : ends_)
    if (end->port() == port) {
      end->write(bytes);
      return;
    }
  hear(port, bytes);
}

/// In the past who is attached has had it.
void Console::on_serial_again(const std::string& port, const std::string& bytes) {
  if (std::any_of(ends_.begin(), ends_.end(), [&](const auto& end) { return end->port() == port; }))
    not_sent_ += bytes.size();
  hear(port, bytes);
}

void Console::hear(const std::string& port, const std::string& bytes) {
  const bool companion = port.find('.') != std::string::npos;
  if (!companion)
    sent_.add(port,
              session_ != nullptr ? session_->bytes_sent() - bytes.size() : sent_.text().size(),
              bytes);
  if (session_ == nullptr) return;
  const auto& ports = session_->chip().info().serial_ports;
  writer_->serial(port, !ports.empty() && port == ports.front(), bytes);
}

Result<void> Console::stand(const Pause& come_to) {
  // What broke on the way is stood at.
  const auto broken = expectations_of_->broken();
  const Pause& pause = broken ? session_->pause() : come_to;
  Standing standing;
  standing.pause = pause;
  standing.behind = session_->behind();
  standing.by_instruction = unit_ == StepUnit::kInstruction;
  if (unit_ == StepUnit::kLine && !pause.where.file.empty()) {
    if (auto source = session_->source("here", 2)) standing.source = *source;
  } else if (auto rows =
                 session_->disassembly("here", pause.cause == Pause::Cause::kReady ? 2 : 8)) {
    standing.disassembly = *rows;
  }
  if (pause.cycles_since != 0) standing.changed = session_->changed();
  standing.watches = session_->watches();
  if (const std::uint64_t bytes = std::exchange(not_sent_, 0); bytes != 0)
    show(Warning{fmt::format("{} byte{} that {} been sent before {} not sent again", bytes,
                             bytes == 1 ? "" : "s", bytes == 1 ? "has" : "have",
                             bytes == 1 ? "was" : "were")});
  writer_->pause_serial();
  show(standing);
  if (broken) return missed(*broken);
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

Result<void> Console::stand(const Result<Pause>& pause) {
  return pause ? stand(*pause) : fail(pause.error());
}

std::string Console::file(const Words& words, std::size_t index) const {
  const auto files = words.texts("FILE");
  if (index >= files.size()) return {};
  const auto plain = unquoted(files[index]);
  return beside(plain ? *plain : files[index]);
}

std::string Console::beside(const std::string& path) const {
  return path.empty() || path[0] == '/' ? path : script_folder_ + path;
}

}  // namespace lucid::app
