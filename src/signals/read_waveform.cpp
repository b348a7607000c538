// SPDX-License-Identifier: MIT
// Captures from elsewhere: bytes that nobody has checked.
#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <charconv>
#include <cmath>
#include <cstring>
#include <optional>
#include <unordered_map>

#include "base/text.h"
#include "lucid/waveform.h"

namespace lucid {
namespace {

constexpr std::uint64_t kPicosecondsASecond = 1'000'000'000'000;
constexpr std::size_t kMostSignals = 10'000;
using State = Sample::State;

/// Words with the line that each is on.
class WordReader {
 public:
  WordReader(std::string_view text, const std::string& name) : text_(text), name_(name) {}
  /// Empty at the end.
  std::string_view next() {
    while (at_ < text_.size() && is_blank(text_[at_])) {
      if (text_[at_] == '\n') ++line_;
      ++at_;
    }
    const std::size_t begin = at_;
    while (at_ < text_.size() && !is_blank(text_[at_])) ++at_;
    return text_.substr(begin, at_ - begin);
  }
  [[nodiscard]] tl::unexpected<Error> wrong(const std::string& what,
                                            const std::string& hint = {}) const {
    return fail(ErrorCode::kBadImage, what, hint, fmt::format("{}:{}", name_, line_));
  }

 private:
  static bool is_blank(char c) { return c == ' ' || (c >= '\t' && c <= '\r'); }
  std::string_view text_;
  const std::string& name_;
  std::size_t at_ = 0;
  unsigned line_ = 1;
};

/// What of a file's text may stand in a message.
std::string shown(std::string_view text) {
  std::string out;
  for (const char c : text.substr(0, 30)) out += c >= ' ' && c <= '~' ? c : '?';
  return out;
}

std::uint64_t bits_of(double real) {
  std::uint64_t out = 0;
  std::memcpy(&out, &real, sizeof out);
  return out;
}

template <class Number>
std::optional<Number> number_in(std::string_view text) {
  Number out{};
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), out);
  if (text.empty() || error != std::errc{} || end != text.data() + text.size()) return std::nullopt;
  return out;
}

class VcdReader {
 public:
  VcdReader(std::string_view text, const std::string& name) : words_(text, name) {}

  Result<std::vector<Signal>> read() {
    if (auto done = definitions(); !done) return fail(done.error());
    for (const Signal::Facts& facts : facts_) signals_.emplace_back(facts, hz_, 0);
    if (auto done = changes(); !done) return fail(done.error());
    for (Signal& signal : signals_) signal.end_at(time_);
    return std::move(signals_);
  }

 private:
  Result<std::vector<std::string_view>> body() {
    std::vector<std::string_view> out;
    for (;;) {
      const std::string_view word = words_.next();
      if (word == "$end") return out;
      if (word.empty()) return words_.wrong("the file ends before $end");
      constexpr std::size_t kMostWords = 10'000;
      if (out.size() < kMostWords) out.push_back(word);
    }
  }

  Result<void> definitions() {
    std::vector<std::string> scopes;
    for (;;) {
      const std::string_view keyword = words_.next();
      if (keyword.empty())
        return words_.wrong("there is no $enddefinitions", "is it a value change dump?");
      if (keyword[0] != '$')
        return words_.wrong(fmt::format("'{}' is no keyword", shown(keyword)),
                            "is it a value change dump?");
      auto words = body();
      if (!words) return fail(words.error());
      if (keyword == "$enddefinitions") break;
      if (keyword == "$timescale") {
        if (auto done = time_scale(*words); !done) return done;
      } else if (keyword == "$scope") {
        if (words->size() < 2 || scopes.size() > 100) return words_.wrong("a scope without a name");
        scopes.emplace_back((*words)[1]);
      } else if (keyword == "$upscope") {
        if (!scopes.empty()) scopes.pop_back();
      } else if (keyword == "$var") {
        if (auto done = variable(*words, scopes); !done) return done;
      } else if (keyword == "$comment") {
        comment(*words);
      }
    }
    return {};
  }

  Result<void> time_scale(const std::vector<std::string_view>& words) {
    std::string text;
    for (const std::string_view word : words) text += word;
    std::size_t digits = 0;
    while (digits < text.size() && std::isdigit(static_cast<unsigned char>(text[digits])) != 0)
      ++digits;
    const std::string number = text.substr(0, digits), unit = text.substr(digits);
    const char* const kUnits[] = {"s", "ms", "us", "ns", "ps", "fs"};
    std::uint64_t hz = 1;
    for (const char* known : kUnits) {
      if (unit == known && (number == "1" || number == "10" || number == "100")) {
        const std::uint64_t times = number.size() == 1 ? 1 : number.size() == 2 ? 10 : 100;
        hz_ = hz >= times ? hz / times : 1;
        scale_ = hz >= times ? 1 : times;
        latest_ = latest_time();
        return {};
      }
      hz *= 1000;
    }
    return words_.wrong(fmt::format("'{}' is no time scale", shown(text)),
                        "1, 10 or 100 of s, ms, us, ns, ps, fs");
  }

  Result<void> variable(const std::vector<std::string_view>& words,
                        const std::vector<std::string>& scopes) {
    if (words.size() < 4) return words_.wrong("a variable is a type, a width, a code and a name");
    const auto bits = number_in<unsigned>(words[1]);
    if (!bits || *bits == 0) return words_.wrong(fmt::format("'{}' is no width", shown(words[1])));
    if (facts_.size() == kMostSignals)
      return words_.wrong(fmt::format("there are more than {} variables", kMostSignals));
    Signal::Facts facts;
    facts.name = std::string(words[3]);
    facts.scope = scopes;
    if (words[0] == "real" || words[0] == "realtime") {
      facts.kind = Signal::Kind::kReal;
      facts.bits = 64;
    } else if (words[0] == "event") {
      facts.kind = Signal::Kind::kMoment;
    } else if (*bits > 64) {
      return words_.wrong(fmt::format("'{}' has {} bits", shown(words[3]), *bits),
                          "vectors of up to 64 bits can be read");
    } else if (*bits > 1) {
      facts.kind = Signal::Kind::kNumber;
      facts.bits = static_cast<std::uint8_t>(*bits);
      facts.is_signed = words[0] == "integer";
    }
    by_code_[std::string(words[2])].push_back(facts_.size());
    facts_.push_back(std::move(facts));
    return {};
  }

  /// What we have written there ourselves: `state 0=idle 1=ramp`, `temperature in C`.
  void comment(const std::vector<std::string_view>& words) {
    if (facts_.empty() || words.size() < 2 || words[0] != facts_.back().name) return;
    Signal::Facts& facts = facts_.back();
    if (words[1] == "in" && words.size() > 2) facts.unit = std::string(words[2]);
    for (const std::string_view word : words) {
      const std::size_t equal = word.find('=');
      if (equal == std::string_view::npos) continue;
      if (const auto value = number_in<std::uint64_t>(word.substr(0, equal)))
        facts.names.emplace(*value, word.substr(equal + 1));
    }
  }

  Result<void> changes() {
    for (;;) {
      const std::string_view word = words_.next();
      if (word.empty()) return {};
      switch (word[0]) {
        case '#': {
          const auto time = number_in<std::uint64_t>(word.substr(1));
          if (!time) return words_.wrong(fmt::format("'{}' is no time", shown(word)));
          if (*time > latest_)
            return words_.wrong(fmt::format("'{}' is too late", shown(word)),
                                "times of up to 106 days can be read");
          if (*time * scale_ < time_) return words_.wrong("time goes back here");
          time_ = *time * scale_;
          break;
        }
        case '$':
          if (word == "$comment") {
            if (auto skipped = body(); !skipped) return fail(skipped.error());
          } else if (word != "$dumpvars" && word != "$dumpall" && word != "$dumpon" &&
                     word != "$dumpoff" && word != "$end") {
            return words_.wrong(fmt::format("'{}' is not expected among changes", shown(word)));
          }
          break;
        case 'b':
        case 'B':
        case 'r':
        case 'R':
        case 's':
        case 'S': {
          const std::string_view code = words_.next();
          if (auto done = change(word.substr(1), word[0], code); !done) return done;
          break;
        }
        default:
          if (auto done = change(word.substr(0, 1), '1', word.substr(1)); !done) return done;
      }
    }
  }

  Result<void> change(std::string_view value, char kind, std::string_view code) {
    key_.assign(code);
    const auto found = by_code_.find(key_);
    if (found == by_code_.end())
      return words_.wrong(fmt::format("no variable has the code '{}'", shown(code)));
    if (kind == 's' || kind == 'S') return {};  // texts have no place in a signal
    Sample sample{time_, 0, State::kKnown};
    if (kind == 'r' || kind == 'R') {
      const auto real = number_in<double>(value);
      if (!real) return words_.wrong(fmt::format("'{}' is no number", shown(value)));
      sample.value = bits_of(*real);
    } else {
      bool floats = !value.empty(), unknown = false;
      for (const char c : value) {
        const char low = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
        if (std::string_view("01xz").find(low) == std::string_view::npos || value.size() > 4096)
          return words_.wrong(fmt::format("'{}' is no value", shown(value)));
        floats = floats && low == 'z';
        unknown = unknown || low == 'x' || low == 'z';
        sample.value = sample.value << 1 | (low == '1' ? 1U : 0U);
      }
      if (value.empty()) return words_.wrong("a value is missing");
      if (unknown) sample.state = floats ? State::kFloating : State::kUnknown;
    }
    for (const std::size_t i : found->second) {
      Signal& signal = signals_[i];
      const bool real = signal.facts().kind == Signal::Kind::kReal;
      if (real != (kind == 'r' || kind == 'R'))
        return words_.wrong(fmt::format("'{}' is no such value", signal.name()));
      signal.add(sample);
    }
    return {};
  }

  /// In units of the file: what is no longer than half of what Picoseconds reach to.
  [[nodiscard]] std::uint64_t latest_time() const {
    const std::uint64_t ticks =
        hz_ >= kPicosecondsASecond ? UINT64_MAX / 2 : UINT64_MAX / 2 / (kPicosecondsASecond / hz_);
    return ticks / scale_;
  }

  WordReader words_;
  std::uint64_t hz_ = 1'000'000'000, scale_ = 1, time_ = 0, latest_ = latest_time();
  std::vector<Signal::Facts> facts_;
  std::vector<Signal> signals_;
  std::unordered_map<std::string, std::vector<std::size_t>> by_code_;
  std::string key_;
};

// Tables
// ----------------------------------------------------------------------------------------

class CsvReader {
 public:
  CsvReader(std::string_view text, const std::string& name) : text_(text), name_(name) {}

  Result<std::vector<Signal>> read() {
    std::vector<std::string> titles;
    if (!row(titles) || titles.size() < 2)
      return wrong("a table has a line of titles: the time, and at least one signal");
    if (titles.size() > kMostSignals) return wrong("there are too many columns");
    if (auto done = unit_of(titles[0]); !done) return fail(done.error());
    std::vector<std::vector<std::string>> cells(titles.size());
    std::vector<std::uint64_t> times;
    std::vector<std::string> fields;
    while (row(fields)) {
      if (fields.size() == 1 && base::trim(fields[0]).empty()) continue;
      if (fields.size() != titles.size())
        return wrong(
            fmt::format("there are {} fields, and {} titles", fields.size(), titles.size()));
      const auto time = picoseconds(fields[0]);
      if (!time) return wrong(fmt::format("'{}' is no time", shown(fields[0])));
      if (!times.empty() && *time < times.back()) return wrong("time goes back here");
      times.push_back(*time);
      for (std::size_t i = 1; i < fields.size(); ++i) cells[i].emplace_back(base::trim(fields[i]));
    }
    if (times.empty()) return wrong("there is nothing below the titles");
    std::vector<Signal> out;
    for (std::size_t i = 1; i < titles.size(); ++i)
      out.push_back(signal_of(std::string(base::trim(titles[i])), cells[i], times));
    return out;
  }

 private:
  [[nodiscard]] tl::unexpected<Error> wrong(const std::string& what) const {
    return fail(ErrorCode::kBadImage, what, "", fmt::format("{}:{}", name_, line_));
  }

  /// The fields of a line; false at the end.
  bool row(std::vector<std::string>& fields) {
    fields.clear();
    if (at_ >= text_.size()) return false;
    ++line_;
    fields.emplace_back();
    bool quoted = false;
    for (; at_ < text_.size(); ++at_) {
      const char c = text_[at_];
      if (quoted) {
        if (c == '"' && at_ + 1 < text_.size() && text_[at_ + 1] == '"') {
          fields.back() += '"';
          ++at_;
        } else if (c == '"') {
          quoted = false;
        } else {
          fields.back() += c;
        }
      } else if (c == '"') {
        quoted = true;
      } else if (c == ',' || c == ';') {
        fields.emplace_back();
      } else if (c == '\n') {
        ++at_;
        break;
      } else if (c != '\r') {
        fields.back() += c;
      }
    }
    return true;
  }

  /// `time in ms`, `Time [us]`, `t(ns)`: seconds if nothing is said.
  Result<void> unit_of(const std::string& title) {
    std::size_t end = title.size();
    const auto letter = [&](std::size_t i) {
      return std::isalpha(static_cast<unsigned char>(title[i])) != 0;
    };
    while (end > 0 && !letter(end - 1)) --end;
    std::size_t begin = end;
    while (begin > 0 && letter(begin - 1)) --begin;
    const std::string unit = title.substr(begin, end - begin);
    std::uint64_t picoseconds = kPicosecondsASecond;
    for (const char* known : {"s", "ms", "us", "ns", "ps"}) {
      if (unit == known) {
        unit_ = picoseconds;
        return {};
      }
      picoseconds /= 1000;
    }
    return {};
  }

  /// A decimal number of the unit, exactly.
  [[nodiscard]] std::optional<std::uint64_t> picoseconds(std::string_view text) const {
    text = base::trim(text);
    const std::size_t e = text.find_first_of("eE");
    if (e != std::string_view::npos) {
      const auto real = number_in<double>(text);
      if (!real || *real < 0 || *real * static_cast<double>(unit_) > 9e18) return std::nullopt;
      return static_cast<std::uint64_t>(std::llround(*real * static_cast<double>(unit_)));
    }
    const std::size_t point = std::min(text.find('.'), text.size());
    const auto whole = number_in<std::uint64_t>(text.substr(0, point));
    if (!whole || *whole > UINT64_MAX / 2 / unit_) return std::nullopt;
    std::uint64_t out = *whole * unit_, digit = unit_;
    for (std::size_t i = point + 1; i < text.size(); ++i) {
      if (std::isdigit(static_cast<unsigned char>(text[i])) == 0) return std::nullopt;
      digit /= 10;
      out += digit * static_cast<std::uint64_t>(text[i] - '0');
    }
    return out;
  }

  static Signal signal_of(std::string title, const std::vector<std::string>& cells,
                          const std::vector<std::uint64_t>& times) {
    Signal::Facts facts;
    if (const std::size_t in = title.rfind(" in "); in != std::string::npos) {
      facts.unit = title.substr(in + 4);
      title.resize(in);
    }
    facts.name = std::move(title);
    bool level = true, whole = true, real = true;
    const auto odd = [](const std::string& cell) {
      return cell.empty() || cell == "z" || cell == "Z" || cell == "x" || cell == "X";
    };
    for (const std::string& cell : cells) {
      if (odd(cell)) continue;
      level = level && (cell == "0" || cell == "1");
      whole = whole && number_in<std::int64_t>(cell);
      real = real && number_in<double>(cell);
    }
    std::unordered_map<std::string, std::uint64_t> names;
    if (!level && whole) {
      facts.kind = Signal::Kind::kNumber;
      facts.bits = 64;
      facts.is_signed = true;
    } else if (!level && real) {
      facts.kind = Signal::Kind::kReal;
      facts.bits = 64;
    } else if (!level) {  // words
      facts.kind = Signal::Kind::kNumber;
      facts.bits = 32;
      for (const std::string& cell : cells)
        if (!odd(cell)) facts.names.emplace(names.emplace(cell, names.size()).first->second, cell);
    }
    const bool words = !names.empty();
    const Signal::Kind kind = facts.kind;
    Signal out(std::move(facts), kPicosecondsASecond, times.front());
    for (std::size_t i = 0; i < cells.size(); ++i) {
      Sample sample{times[i], 0, State::kKnown};
      const std::string& cell = cells[i];
      if (odd(cell))
        sample.state = cell == "z" || cell == "Z" ? State::kFloating : State::kUnknown;
      else if (words)
        sample.value = names.at(cell);
      else if (kind == Signal::Kind::kReal)
        sample.value = bits_of(*number_in<double>(cell));
      else
        sample.value = static_cast<std::uint64_t>(*number_in<std::int64_t>(cell));
      out.add(sample);
    }
    out.end_at(times.back());
    return out;
  }

  std::string_view text_;
  const std::string& name_;
  std::size_t at_ = 0;
  unsigned line_ = 0;
  std::uint64_t unit_ = kPicosecondsASecond;
};

}  // namespace

Result<std::vector<Signal>> read_waveforms(std::string_view text, WaveformKind kind,
                                           const std::string& name) {
  return kind == WaveformKind::kVcd ? VcdReader(text, name).read() : CsvReader(text, name).read();
}

Result<std::vector<Signal>> open_waveforms(const std::string& path) {
  const auto kind = waveform_kind(path);
  if (!kind) return fail(kind.error());
  const auto bytes = base::read_file(path);
  if (!bytes) return fail(bytes.error());
  return read_waveforms({reinterpret_cast<const char*>(bytes->data()), bytes->size()}, *kind, path);
}

}  // namespace lucid
