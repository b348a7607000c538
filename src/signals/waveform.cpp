// SPDX-License-Identifier: MIT
#include "lucid/waveform.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <numeric>
#include <optional>
#include <set>

namespace lucid {
namespace {

using Wide = unsigned __int128;
constexpr std::uint64_t kFemtosecondsASecond = 1'000'000'000'000'000;

/// A unit of the standard, in femtoseconds.
struct Unit {
  std::uint64_t femtoseconds = 1000;
  std::string text = "1 ps";
};

std::vector<Unit> units() {
  std::vector<Unit> out;
  std::uint64_t femtoseconds = kFemtosecondsASecond;
  for (const char* name : {"s", "ms", "us", "ns", "ps", "fs"}) {
    for (const unsigned times : {100U, 10U, 1U})
      if (name[0] != 's' || times == 1)
        out.push_back({femtoseconds * times, fmt::format("{} {}", times, name)});
    femtoseconds /= 1000;
  }
  return out;
}

/// Goes through the samples of several signals by time; of equal times, the first signal first.
class Merged {
 public:
  struct Change {
    std::size_t signal = 0;
    Sample sample;
  };
  Merged(const std::vector<Signal>& signals, Picoseconds from, Picoseconds to) : signals_(signals) {
    for (const Signal& signal : signals) {
      const std::uint64_t end = to.count == UINT64_MAX ? UINT64_MAX : to_ticks(to, signal.hz());
      samples_.push_back(signal.samples(to_ticks(from, signal.hz()), end));
      ahead_.push_back(samples_.back().next());
    }
  }
  std::optional<Change> next() {
    std::optional<std::size_t> first;
    for (std::size_t i = 0; i < ahead_.size(); ++i)
      if (ahead_[i] && (!first || is_before(i, *first))) first = i;
    if (!first) return std::nullopt;
    Change out{*first, *ahead_[*first]};
    ahead_[*first] = samples_[*first].next();
    return out;
  }

 private:
  [[nodiscard]] bool is_before(std::size_t a, std::size_t b) const {
    return Wide{ahead_[a]->tick} * signals_[b].hz() < Wide{ahead_[b]->tick} * signals_[a].hz();
  }
  const std::vector<Signal>& signals_;
  std::vector<Signal::Samples> samples_;
  std::vector<std::optional<Sample>> ahead_;
};

/// The coarsest unit in which all times are whole.
Unit unit_of(const std::vector<Signal>& signals, Picoseconds from, Picoseconds to) {
  std::vector<std::uint64_t> common(signals.size(), 0);
  Merged all(signals, from, to);
  while (const auto change = all.next())
    common[change->signal] = std::gcd(common[change->signal], change->sample.tick);
  for (std::size_t i = 0; i < signals.size(); ++i)
    common[i] = std::gcd(common[i], signals[i].end());
  for (const Unit& unit : units()) {
    bool whole = true;
    for (const Signal& signal : signals)  // and the number must have room
      whole =
          whole && Wide{signal.end()} * (kFemtosecondsASecond / unit.femtoseconds) / signal.hz() <
                       Wide{1} << 63U;
    for (std::size_t i = 0; i < signals.size() && whole; ++i)
      whole =
          Wide{common[i]} * kFemtosecondsASecond % (Wide{signals[i].hz()} * unit.femtoseconds) == 0;
    if (whole) return unit;
  }
  return {};
}

std::uint64_t in_units(std::uint64_t tick, std::uint64_t hz, const Unit& unit) {
  const Wide divisor = Wide{hz} * unit.femtoseconds;
  return static_cast<std::uint64_t>((Wide{tick} * kFemtosecondsASecond + divisor / 2) / divisor);
}

/// A name of the standard: no blanks, and nothing that means something else.
std::string plain_name(const std::string& name, std::set<std::string>& taken) {
  std::string_view text = name;
  for (const std::string_view before : {"pin.", "chip."})
    if (text.substr(0, before.size()) == before) text.remove_prefix(before.size());
  std::string out;
  for (const char c : text) out += std::isalnum(static_cast<unsigned char>(c)) != 0 ? c : '_';
  if (out.empty() || std::isdigit(static_cast<unsigned char>(out[0])) != 0) out = "_" + out;
  const std::string base = out;
  for (unsigned n = 2; !taken.insert(out).second; ++n) out = fmt::format("{}_{}", base, n);
  return out;
}

/// One word, and none that ends a comment.
std::string in_comment(const std::string& text) {
  std::string out;
  for (const char c : text)
    if (c >= ' ' && c <= '~') out += c == '$' || c == ' ' ? '_' : c;
  return out;
}

/// What a VCD calls it within its lines.
std::string code_of(std::size_t number) {
  constexpr unsigned kFirst = 33, kCount = 94;
  std::string out;
  do {
    out += static_cast<char>(kFirst + number % kCount);
    number /= kCount;
  } while (number-- != 0);
  return out;
}

bool is_real(const Signal& signal) {
  return signal.facts().kind == Signal::Kind::kReal || signal.facts().scale != 1;
}

std::string vector_text(const Signal& signal, const Sample& sample) {
  if (sample.state == Sample::State::kFloating) return "bz";
  if (!sample.known()) return "bx";
  const unsigned bits = std::clamp<unsigned>(signal.facts().bits, 1, 64);
  const std::uint64_t mask = bits == 64 ? UINT64_MAX : (std::uint64_t{1} << bits) - 1;
  return fmt::format("b{:b}", sample.value & mask);
}

class VcdWriter {
 public:
  VcdWriter(std::ostream& out, const std::vector<Signal>& signals, Picoseconds from, Picoseconds to)
      : out_(out),
        signals_(signals),
        from_(from),
        to_(to),
        unit_(unit_of(signals, from, to)),
        dumped_(signals.size()) {}

  std::uint64_t write() {
    head();
    std::uint64_t changes = 0, last_time = UINT64_MAX, end = 0;
    for (const Signal& signal : signals_)
      end = std::max(
          end, in_units(std::min(signal.end(),
                                 to_.count == UINT64_MAX ? UINT64_MAX : to_ticks(to_, signal.hz())),
                        signal.hz(), unit_));
    bool began = false;
    Merged all(signals_, from_, to_);
    while (const auto change = all.next()) {
      const Signal& signal = signals_[change->signal];
      const std::uint64_t time = in_units(change->sample.tick, signal.hz(), unit_);
      if (time != last_time) {
        out_ << '#' << time << '\n';
        last_time = time;
        if (!began) dump_at(change->sample.tick, signal.hz());
        began = true;
      }
      if (dumped_[change->signal]) {
        dumped_[change->signal] = false;
        ++changes;
      } else if (value(change->signal, change->sample)) {
        ++changes;
      }
    }
    if (end != last_time || !began) out_ << '#' << end << '\n';
    return changes;
  }

 private:
  void head() {
    out_ << "$version Lucid Loop $end\n$timescale " << unit_.text << " $end\n";
    // By scope, in the order in which they come.
    std::vector<std::size_t> order(signals_.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
      return signals_[a].facts().scope < signals_[b].facts().scope;
    });
    std::vector<std::string> open;
    std::set<std::string> taken;
    for (const std::size_t i : order) {
      const Signal::Facts& facts = signals_[i].facts();
      std::size_t same = 0;
      while (same < std::min(open.size(), facts.scope.size()) && open[same] == facts.scope[same])
        ++same;
      if (same != open.size() || same != facts.scope.size()) taken.clear();
      for (; open.size() > same; open.pop_back()) out_ << "$upscope $end\n";
      for (; open.size() < facts.scope.size(); open.push_back(facts.scope[open.size()])) {
        std::set<std::string> none;
        out_ << "$scope module " << plain_name(facts.scope[open.size()], none) << " $end\n";
      }
      variable(i, taken);
    }
    for (; !open.empty(); open.pop_back()) out_ << "$upscope $end\n";
    out_ << "$enddefinitions $end\n";
  }

  void variable(std::size_t i, std::set<std::string>& taken) {
    const Signal::Facts& facts = signals_[i].facts();
    const std::string name = plain_name(facts.name, taken);
    const unsigned bits = std::clamp<unsigned>(facts.bits, 1, 64);
    const auto vector = [&](const std::string& code, const std::string& called) {
      out_ << "$var wire " << bits << ' ' << code << ' ' << called;
      if (bits > 1) out_ << " [" << bits - 1 << ":0]";
      out_ << " $end\n";
    };
    if (is_real(signals_[i])) {
      out_ << "$var real 64 " << code_of(i) << ' ' << name << " $end\n";
    } else if (facts.kind == Signal::Kind::kMoment) {
      out_ << "$var event 1 " << code_of(i) << ' ' << name << " $end\n";
      vector(code_of(signals_.size() + i), plain_name(facts.name + "_value", taken));
    } else {
      vector(code_of(i), name);
    }
    if (facts.names.empty() && facts.unit.empty()) return;
    out_ << "$comment " << name;
    if (!facts.unit.empty()) out_ << " in " << in_comment(facts.unit);
    for (const auto& [value, called] : facts.names)
      out_ << ' ' << value << '=' << in_comment(called);
    out_ << " $end\n";
  }

  /// Everything has a value where the dump begins.
  void dump_at(std::uint64_t tick, std::uint64_t hz) {
    out_ << "$dumpvars\n";
    for (std::size_t i = 0; i < signals_.size(); ++i) {
      const Signal& signal = signals_[i];
      if (signal.facts().kind == Signal::Kind::kMoment) {
        out_ << "bx " << code_of(signals_.size() + i) << '\n';
        continue;
      }
      Sample first;
      first.state = Sample::State::kUnknown;
      dumped_[i] = Wide{std::max(signal.begin(), to_ticks(from_, signal.hz()))} * hz <=
                   Wide{tick} * signal.hz();
      if (dumped_[i]) first = signal.at(std::max(signal.begin(), to_ticks(from_, signal.hz())));
      if (!value(i, first)) out_ << fmt::format("r0 {}\n", code_of(i));
    }
    out_ << "$end\n";
  }

  bool value(std::size_t i, const Sample& sample) {
    const Signal& signal = signals_[i];
    const std::string code = code_of(i);
    if (is_real(signal)) {
      if (!sample.known()) return false;
      out_ << fmt::format("r{} {}\n", signal.number(sample), code);
    } else if (signal.facts().kind == Signal::Kind::kMoment) {
      out_ << vector_text(signal, sample) << ' ' << code_of(signals_.size() + i) << '\n';
      out_ << '1' << code << '\n';
    } else if (signal.facts().kind == Signal::Kind::kLevel || signal.facts().bits == 1) {
      out_ << vector_text(signal, sample).back() << code << '\n';
    } else {
      out_ << vector_text(signal, sample) << ' ' << code << '\n';
    }
    return true;
  }

  std::ostream& out_;
  const std::vector<Signal>& signals_;
  const Picoseconds from_, to_;
  const Unit unit_;
  std::vector<bool> dumped_;  ///< its first value stands at the beginning
};

std::string csv_field(const std::string& text) {
  if (text.find_first_of(",;\"\n\r") == std::string::npos) return text;
  std::string out = "\"";
  for (const char c : text) {
    if (c == '"') out += '"';
    out += c;
  }
  return out + "\"";
}

/// Seconds, all digits of the picoseconds.
std::string seconds_text(Picoseconds time) {
  constexpr std::uint64_t kSecond = 1'000'000'000'000;
  return fmt::format("{}.{:012}", time.count / kSecond, time.count % kSecond);
}

std::string csv_value(const Signal& signal, const Sample& sample) {
  if (sample.state == Sample::State::kFloating) return "z";
  if (!sample.known()) return "";
  if (const auto name = signal.facts().names.find(sample.value); name != signal.facts().names.end())
    return csv_field(name->second);
  if (is_real(signal)) return fmt::format("{}", signal.number(sample));
  if (signal.facts().is_signed) return fmt::format("{:.0f}", signal.number(sample));
  return fmt::format("{}", sample.value);
}

std::uint64_t write_csv(std::ostream& out, const std::vector<Signal>& signals, Picoseconds from,
                        Picoseconds to) {
  out << "time in s";
  for (const Signal& signal : signals)
    out << ','
        << csv_field(signal.facts().unit.empty() ? signal.name()
                                                 : signal.name() + " in " + signal.facts().unit);
  out << '\n';
  std::vector<std::string> row(signals.size());
  std::optional<Picoseconds> time;
  std::uint64_t changes = 0;
  const auto end_row = [&] {
    if (!time) return;
    out << seconds_text(*time);
    for (std::size_t i = 0; i < row.size(); ++i) {
      out << ',' << row[i];
      if (signals[i].facts().kind == Signal::Kind::kMoment) row[i].clear();
    }
    out << '\n';
  };
  Merged all(signals, from, to);
  while (const auto change = all.next()) {
    const Signal& signal = signals[change->signal];
    const Picoseconds at = signal.time(change->sample.tick);
    // Two moments of one signal need two rows.
    const bool again = signal.facts().kind == Signal::Kind::kMoment && !row[change->signal].empty();
    if (!time || time->count != at.count || again) end_row();
    time = at;
    row[change->signal] = csv_value(signal, change->sample);
    ++changes;
  }
  end_row();
  return changes;
}

}  // namespace

Result<WaveformKind> waveform_kind(const std::string& path) {
  const auto ends = [&](std::string_view with) {
    return path.size() > with.size() &&
           std::equal(with.rbegin(), with.rend(), path.rbegin(), [](char a, char b) {
             return a == std::tolower(static_cast<unsigned char>(b));
           });
  };
  if (ends(".vcd")) return WaveformKind::kVcd;
  if (ends(".csv")) return WaveformKind::kCsv;
  return fail(ErrorCode::kUsage, fmt::format("'{}' is neither .vcd nor .csv", path));
}

Result<std::uint64_t> write_waveforms(std::ostream& out, WaveformKind kind,
                                      const std::vector<Signal>& signals, Picoseconds from,
                                      Picoseconds to) {
  const bool any = std::any_of(signals.begin(), signals.end(), [&](const Signal& signal) {
    return to_ticks(from, signal.hz()) <= signal.end() &&
           (to.count == UINT64_MAX || to_ticks(to, signal.hz()) >= signal.begin());
  });
  if (!any) return fail(ErrorCode::kOutOfRange, "nothing is recorded there");
  const std::uint64_t changes = kind == WaveformKind::kVcd
                                    ? VcdWriter(out, signals, from, to).write()
                                    : write_csv(out, signals, from, to);
  if (!out) return fail(ErrorCode::kIo, "the waveforms could not be written");
  return changes;
}

}  // namespace lucid
