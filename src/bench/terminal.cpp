// SPDX-License-Identifier: MIT
// A terminal at a serial port that says what stands in a text or a script, and waits for answers.
#include <fmt/format.h>

#include "base/text.h"
#include "bench/parts.h"
#include "lucid/time.h"

namespace lucid::bench {
namespace {

struct Step {
  enum class Kind : std::uint8_t { kSay, kAwait, kWait } kind = Kind::kSay;
  unsigned line = 0;
  std::string text;
  std::uint64_t microseconds = 0;  ///< to wait; the most that an answer may take, 0: any time
  std::vector<std::size_t> again;  ///< by letters matched: how many still are if the next differs
};

/// Letters between quotes, with \n \r \t \0 \\ \" and \x7f; `rest` is what stands behind.
std::optional<std::string> unquoted(std::string_view text, std::string_view& rest) {
  if (text.empty() || text[0] != '"') return std::nullopt;
  std::string out;
  for (std::size_t i = 1; i < text.size(); ++i) {
    if (text[i] == '"') {
      rest = base::trim(text.substr(i + 1));
      return out;
    }
    if (text[i] != '\\') {
      out += text[i];
      continue;
    }
    if (++i == text.size()) break;
    static constexpr std::string_view kLetters = "nrt0\\\"", kMeant("\n\r\t\0\\\"", 6);
    if (const auto at = kLetters.find(text[i]); at != std::string_view::npos) {
      out += kMeant[at];
    } else if (text[i] == 'x' && i + 2 < text.size()) {
      const auto byte = base::parse_unsigned("0x" + std::string(text.substr(i + 1, 2)));
      if (!byte) return std::nullopt;
      out += static_cast<char>(*byte);
      i += 2;
    } else {
      return std::nullopt;
    }
  }
  return std::nullopt;
}

/// What is wrong with a line, or nothing.
std::string read_line(std::string_view line, Step& step) {
  const std::string_view word = line.substr(0, line.find(' '));
  std::string_view rest = base::trim(line.substr(word.size()));
  if (word == "wait") {
    const auto time = parse_time(std::string(rest));
    if (!time) return "write a time such as: wait 20ms";
    step.kind = Step::Kind::kWait;
    step.microseconds = time->count / 1'000'000;
    return {};
  }
  if (word != "say" && word != "await")
    return "begins with '" + std::string(word) + "'; there are say, await and wait";
  const auto text = unquoted(rest, rest);
  if (!text || text->empty())
    return "needs a text in quotes, such as: " + std::string(word) + R"( "G\n")";
  step.text = *text;
  if (word == "say") return rest.empty() ? "" : "has something behind its text";
  step.kind = Step::Kind::kAwait;
  if (!rest.empty()) {
    const auto time = rest.rfind("within ", 0) == 0 ? parse_time(std::string(rest.substr(7)))
                                                    : Result<Picoseconds>(fail(Error{}));
    if (!time) return R"(write a time such as: await "ready" within 2s)";
    step.microseconds = std::max<std::uint64_t>(time->count / 1'000'000, 1);
  }
  // So that a text is found wherever it begins, byte by byte and without going back.
  step.again.assign(step.text.size(), 0);
  for (std::size_t i = 1, k = 0; i < step.text.size(); ++i) {
    while (k > 0 && step.text[i] != step.text[k]) k = step.again[k - 1];
    if (step.text[i] == step.text[k]) ++k;
    step.again[i] = k;
  }
  return {};
}

class Terminal final : public Part {
 public:
  Terminal(const std::string& name, Keys& keys, const Surroundings& around)
      : Part(name), port_(keys.text("port")) {
    if (keys.has("script") == keys.has("text"))
      keys.wrong("script", "or 'text' must say what it sends, one of them");
    else if (keys.has("text"))
      steps_.push_back({Step::Kind::kSay, 1, keys.text("text"), 0, {}});
    else
      read(keys, around);
  }

  [[nodiscard]] std::vector<std::string> pins() const override { return {}; }
  [[nodiscard]] unsigned numbers() const override { return kNumbers; }
  void start(Wires& wires) const override { go_on(wires); }
  void on_byte(Wires& wires, const std::string& port, std::uint8_t byte) const override {
    const Step* const step = now(wires);
    if (!base::equal_ignoring_case(port, port_) || step == nullptr ||
        step->kind != Step::Kind::kAwait)
      return;
    auto matched = static_cast<std::size_t>(wires.number(kMatched));
    const auto letter = static_cast<char>(byte);
    while (matched > 0 && step->text[matched] != letter) matched = step->again[matched - 1];
    if (step->text[matched] == letter) ++matched;
    wires.number(kMatched) = static_cast<std::int64_t>(matched);
    if (matched < step->text.size()) return;
    ++wires.number(kStep);
    go_on(wires);
  }
  void on_time(Wires& wires) const override {
    const Step* const step = now(wires);
    const std::int64_t deadline = wires.number(kDeadline);
    if (step == nullptr || deadline == 0 || static_cast<std::int64_t>(wires.now()) < deadline)
      return;
    if (step->kind == Step::Kind::kAwait) {
      wires.number(kFailed) = 1;
      wires.note(fmt::format("line {} of its script: the answer did not come in time", step->line));
      return;
    }
    ++wires.number(kStep);
    go_on(wires);
  }
  [[nodiscard]] bool failed(Wires& wires) const override { return wires.number(kFailed) != 0; }
  [[nodiscard]] std::string describe(Wires& wires) const override {
    if (wires.number(kFailed) != 0)
      return fmt::format("gave up at line {}", steps_[at(wires)].line);
    const Step* const step = now(wires);
    if (step == nullptr) return fmt::format("at {}, has said all", port_);
    return fmt::format("at {}, {} in line {}", port_,
                       step->kind == Step::Kind::kWait ? "waits" : "awaits an answer", step->line);
  }

 private:
  enum Number : unsigned { kStep, kMatched, kDeadline, kFailed, kNumbers };

  static std::size_t at(Wires& wires) { return static_cast<std::size_t>(wires.number(kStep)); }
  /// The step that it stands before; null at the end.
  const Step* now(Wires& wires) const {
    const bool over = wires.number(kFailed) != 0 || at(wires) >= steps_.size();
    return over ? nullptr : &steps_[at(wires)];
  }

  /// Up to the next step that takes time.
  void go_on(Wires& wires) const {
    for (const Step* step = now(wires); step != nullptr; step = now(wires)) {
      wires.number(kMatched) = wires.number(kDeadline) = 0;
      if (step->kind != Step::Kind::kSay) {
        if (step->microseconds == 0 && step->kind == Step::Kind::kAwait) return;
        const std::uint64_t end = wires.now() + wires.ticks(step->microseconds);
        wires.number(kDeadline) = static_cast<std::int64_t>(end);
        wires.wake_at(end);
        return;
      }
      wires.send(port_, step->text);
      ++wires.number(kStep);
    }
  }

  void read(Keys& keys, const Surroundings& around) {
    const std::string file = keys.text("script");
    const auto bytes = base::read_file(base::in_folder(around.folder, file));
    if (!bytes) {
      keys.wrong("script", "names " + file + ", which cannot be read");
      return;
    }
    const std::string whole(bytes->begin(), bytes->end());
    std::string_view text = whole;
    for (unsigned line = 1; !text.empty(); ++line) {
      const std::size_t end = std::min(text.find('\n'), text.size());
      const std::string_view row = base::trim(text.substr(0, end));
      text.remove_prefix(std::min(end + 1, text.size()));
      if (row.empty() || row[0] == '#') continue;
      Step step;
      step.line = line;
      if (const std::string wrong = read_line(row, step); !wrong.empty()) {
        keys.wrong("script", fmt::format("names {}, whose line {} {}", file, line, wrong));
        return;
      }
      steps_.push_back(std::move(step));
    }
  }

  std::string port_;
  std::vector<Step> steps_;
};

}  // namespace

Made make_terminal(const std::string& name, Keys& keys, const Surroundings& around) {
  return std::make_shared<Terminal>(name, keys, around);
}

}  // namespace lucid::bench
