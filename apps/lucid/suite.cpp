// SPDX-License-Identifier: MIT
#include "suite.h"

#include <fmt/format.h>
#include <signal.h>

#include <algorithm>
#include <atomic>
#include <csignal>
#include <filesystem>
#include <mutex>
#include <nlohmann/json.hpp>
#include <sstream>
#include <thread>

#include "output.h"
#include "text_back.h"

namespace lucid::app {
namespace {

std::atomic<bool> ended{false};  // NOLINT(cppcoreguidelines-avoid-non-const-global-variables)
void on_end(int /*signal*/) { ended = true; }

/// Hands everything on, and looks now and then whether it has to end.
class WatchingWriter final : public Writer {
 public:
  WatchingWriter(std::unique_ptr<Writer> inner, std::function<void()> look)
      : inner_(std::move(inner)), look_(std::move(look)) {}
  void begin(const std::string& id, const std::string& prompt,
             const std::string& command) override {
    look_();
    inner_->begin(id, prompt, command);
  }
  void reply(const Reply& reply) override { inner_->reply(reply); }
  void error(const Error& error) override { inner_->error(error); }
  void serial(const std::string& port, bool first, const std::string& bytes) override {
    inner_->serial(port, first, bytes);
  }
  void pause_serial() override { inner_->pause_serial(); }
  void progress(const std::string& now) override {
    look_();
    inner_->progress(now);
  }
  void end(const Result<void>& result) override { inner_->end(result); }

 private:
  std::unique_ptr<Writer> inner_;
  std::function<void()> look_;
};

std::string last_lines(const std::string& text, unsigned lines) {
  std::size_t at = text.size();
  for (unsigned i = 0; i <= lines && at != std::string::npos && at != 0; ++i)
    at = text.rfind('\n', at - 1);
  return at == std::string::npos || at == 0 ? text : text.substr(at + 1);
}

CaseResult play_one(Console::Options console_options, const SuiteOptions& options,
                    const std::string& script, const Case& with, bool leave_moment) {
  CaseResult out;
  out.script = script;
  out.of_case = with.name;
  console_options.more_bench = with.bench();
  console_options.values = with.values;
  std::ostringstream text;
  Console console(console_options, text);
  const auto began = std::chrono::steady_clock::now();
  bool too_long = false;
  console.write_with(
      std::make_unique<WatchingWriter>(text_writer(text, console_options.style), [&] {
        too_long =
            too_long || (options.wall && std::chrono::steady_clock::now() - began > *options.wall);
        if (ended || too_long) console.interrupt();
      }));
  Result<void> played = {};
  const std::string& image = with.image.empty() ? options.image : with.image;
  if (!image.empty()) played = console.open(image);
  if (played) played = console.play(script);
  out.expectations = console.expectations();
  out.tests = console.tests();
  out.output = text.str();
  out.serial = last_lines(console.sent().text(), 10);
  Session* session = console.session();
  if (session != nullptr) {
    out.time = session->chip().time();
    // A part that has not met what it waited for.
    for (const PartState& part : session->chip().parts())
      if (played && part.failed) {
        out.verdict = CaseResult::Verdict::kMissed;
        out.error = {ErrorCode::kUsage, part.name + " " + part.state, script, "", Unknown::kNone};
      }
  }
  if (played && out.error.what.empty()) out.verdict = CaseResult::Verdict::kHeld;
  if (played) return out;
  out.error = played.error();
  if (session == nullptr && !with.name.empty())
    out.error.where =
        "case '" + with.name + "'" + (out.error.where.empty() ? "" : ", " + out.error.where);
  out.verdict = ended                          ? CaseResult::Verdict::kNotReached
                : console.expectation_failed() ? CaseResult::Verdict::kMissed
                                               : CaseResult::Verdict::kError;
  if (too_long)
    out.error = {ErrorCode::kOutOfRange, "it has taken longer than it may, by the clock", script,
                 "give it more: --wall", Unknown::kNone};
  if (session == nullptr) return out;
  const auto levels = session->callers();
  for (auto level = levels.rbegin(); level != levels.rend(); ++level)
    out.callers.push_back(place(level->where));
  if (out.verdict == CaseResult::Verdict::kMissed && leave_moment) {
    std::string file = std::filesystem::path(script).stem().string();
    if (!with.name.empty()) file += "-" + with.name;
    for (char& c : file)
      if (c == '/' || static_cast<unsigned char>(c) <= ' ') c = '-';
    file += ".moment";
    if (console.save_moment(file)) out.moment = file;
  }
  return out;
}

/// Leaves out inputs and values, many at once and then one by one, while it misses at the same
/// line.
std::vector<std::string> fewest(const Console::Options& console, const SuiteOptions& options,
                                const CaseResult& missed, const Case& of) {
  constexpr unsigned kMostRuns = 200;
  unsigned runs = 0;
  struct Piece {
    bool value = false;
    std::string text;
  };
  std::vector<Piece> left;
  for (const std::string& input : of.inputs) left.push_back({false, input});
  for (const std::string& value : of.values) left.push_back({true, value});
  const auto still_misses = [&](const std::vector<Piece>& pieces) {
    Case with{of.name, of.image, {}, {}};
    for (const Piece& piece : pieces)
      (piece.value ? with.values : with.inputs).push_back(piece.text);
    ++runs;
    const CaseResult now = play_one(console, options, missed.script, with, false);
    return now.verdict == CaseResult::Verdict::kMissed && now.error.where == missed.error.where;
  };
  for (std::size_t chunk = std::max<std::size_t>(left.size() / 2, 1); chunk > 0;) {
    bool shrunk = false;
    for (std::size_t at = 0; at < left.size() && runs < kMostRuns && !ended;) {
      std::vector<Piece> without = left;
      const auto begin = without.begin() + static_cast<std::ptrdiff_t>(at);
      without.erase(begin, begin + static_cast<std::ptrdiff_t>(std::min(chunk, left.size() - at)));
      if (still_misses(without)) {
        left = std::move(without);
        shrunk = true;
      } else {
        at += chunk;
      }
    }
    if (runs >= kMostRuns || ended) break;
    if (chunk > 1)
      chunk /= 2;
    else if (!shrunk)
      break;
  }
  std::vector<std::string> out;
  for (const Piece& piece : left) {
    std::string text =
        piece.value ? "let " + piece.text : piece.text.substr(piece.text.find('\n') + 1);
    while (!text.empty() && text.back() == '\n') text.pop_back();
    for (std::size_t line = text.find('\n'); line != std::string::npos; line = text.find('\n'))
      text.replace(line, 1, ", ");
    out.push_back(std::move(text));
  }
  return out;
}

/// As XML may hold it: what is no character of it as \xNN.
std::string xml(const std::string& text) {
  std::string out;
  for (const char c : with_bytes_escaped(text)) {
    const auto byte = static_cast<unsigned char>(c);
    switch (c) {
      case '&': out += "&amp;"; break;
      case '<': out += "&lt;"; break;
      case '>': out += "&gt;"; break;
      case '"': out += "&quot;"; break;
      case '\n':
      case '\t': out += c; break;
      case '\r': break;
      default:
        out += byte < 0x20 || byte == 0x7f ? fmt::format("\\x{:02x}", byte) : std::string(1, c);
    }
  }
  // Two that UTF-8 can say and XML cannot.
  for (const char* no : {"\xef\xbf\xbe", "\xef\xbf\xbf"})
    for (std::size_t at = out.find(no); at != std::string::npos; at = out.find(no))
      out.replace(at, 3, "\\xef\\xbf\\xbe");
  return out;
}

const char* word(CaseResult::Verdict verdict) {
  switch (verdict) {
    case CaseResult::Verdict::kHeld: return "held";
    case CaseResult::Verdict::kMissed: return "missed";
    case CaseResult::Verdict::kError: return "error";
    case CaseResult::Verdict::kNotReached: return "not reached";
  }
  return "";
}

std::string told(const std::vector<std::string>& fewest) {
  if (fewest.empty()) return "it misses without any of its inputs and values, too";
  std::string out = "enough for it:";
  for (const std::string& one : fewest) out += "\n              " + one;
  return out;
}

double seconds(Picoseconds time) { return static_cast<double>(time.count) / 1e12; }

std::size_t count(const std::vector<CaseResult>& results, CaseResult::Verdict verdict) {
  return static_cast<std::size_t>(std::count_if(
      results.begin(), results.end(), [&](const CaseResult& r) { return r.verdict == verdict; }));
}

}  // namespace

std::vector<CaseResult> play_all(const Console::Options& console, const SuiteOptions& options) {
  const std::vector<Case> cases = options.cases.empty() ? std::vector<Case>(1) : options.cases;
  std::vector<CaseResult> out(options.scripts.size() * cases.size());
  for (std::size_t i = 0; i < out.size(); ++i) {
    out[i].script = options.scripts[i / cases.size()];
    out[i].of_case = cases[i % cases.size()].name;
  }
  ended = false;
  struct sigaction action {};
  struct sigaction before {};
  action.sa_handler = on_end;
  sigaction(SIGINT, &action, &before);
  (void)locale_has_utf8();  // found out before there are threads
  std::atomic<std::size_t> next{0};
  std::size_t finished = 0;
  std::mutex telling;
  const auto work = [&] {
    for (std::size_t i = next++; i < out.size() && !ended; i = next++) {
      const Case& with = cases[i % cases.size()];
      out[i] = play_one(console, options, options.scripts[i / cases.size()], with, true);
      if (out[i].verdict == CaseResult::Verdict::kMissed &&
          with.inputs.size() + with.values.size() > 0)
        out[i].fewest = fewest(console, options, out[i], with);
      const std::lock_guard<std::mutex> lock(telling);
      ++finished;
      if (options.on_finished) options.on_finished(out[i], finished);
    }
  };
  std::vector<std::thread> workers;
  const std::size_t jobs = std::min<std::size_t>(std::max(options.jobs, 1U), out.size());
  for (std::size_t i = 1; i < jobs; ++i) workers.emplace_back(work);
  work();
  for (std::thread& worker : workers) worker.join();
  sigaction(SIGINT, &before, nullptr);
  return out;
}

std::string junit_xml(const std::vector<CaseResult>& results) {
  using Verdict = CaseResult::Verdict;
  double total = 0;
  std::size_t tests = results.size(), failures = count(results, Verdict::kMissed);
  for (const CaseResult& r : results) {
    total += seconds(r.time);
    tests += r.tests.size();
    for (const Expectations::Test& test : r.tests) failures += test.failures.empty() ? 0 : 1;
  }
  const std::string counts = fmt::format(
      "tests=\"{}\" failures=\"{}\" errors=\"{}\" skipped=\"{}\" time=\"{:.6f}\"", tests, failures,
      count(results, Verdict::kError), count(results, Verdict::kNotReached), total);
  std::string out = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n";
  out += fmt::format("<testsuites name=\"lucid\" {}>\n", counts);
  out += fmt::format("  <testsuite name=\"lucid\" {}>\n", counts);
  out +=
      "    <properties>\n      <property name=\"time\" value=\"simulated\"/>\n    </properties>\n";
  for (const CaseResult& r : results) {
    out += fmt::format("    <testcase name=\"{}\" classname=\"lucid\" time=\"{:.6f}\"",
                       xml(r.name()), seconds(r.time));
    std::string inner;
    std::string detail = r.error.text();
    if (r.verdict == Verdict::kError)  // that of an expectation says who has called
      for (const std::string& caller : r.callers) detail += "\n  in " + caller;
    if (r.fewest) detail += "\n" + told(*r.fewest);
    if (!r.moment.empty()) detail += "\nto look around there: lucid open --at " + r.moment;
    const std::string message = xml(r.error.what);
    if (r.verdict == Verdict::kMissed)
      inner += fmt::format("      <failure message=\"{}\" type=\"expectation\">{}</failure>\n",
                           message, xml(detail));
    if (r.verdict == Verdict::kError)
      inner += fmt::format("      <error message=\"{}\" type=\"script\">{}</error>\n", message,
                           xml(detail));
    if (r.verdict == Verdict::kNotReached) inner += "      <skipped message=\"not reached\"/>\n";
    if (r.verdict != Verdict::kHeld && !r.serial.empty())
      inner += fmt::format("      <system-out>{}</system-out>\n", xml(r.serial));
    out += inner.empty() ? "/>\n" : ">\n" + inner + "    </testcase>\n";
    for (const Expectations::Test& test : r.tests) {
      out += fmt::format("    <testcase name=\"{}\" classname=\"{}\" time=\"{:.6f}\"",
                         xml(test.name), xml(r.script), seconds(test.took));
      inner.clear();
      for (const std::string& failure : test.failures)
        inner += fmt::format("      <failure message=\"{}\" type=\"check\"/>\n", xml(failure));
      out += inner.empty() ? "/>\n" : ">\n" + inner + "    </testcase>\n";
    }
  }
  return out + "  </testsuite>\n</testsuites>\n";
}

std::string table(const std::vector<CaseResult>& results) {
  std::size_t widest = 0;
  for (const CaseResult& r : results) widest = std::max(widest, r.name().size());
  std::string out;
  for (const CaseResult& r : results) {
    out += fmt::format("{:<11} {:<{}}  {:>3} expectation{}  {}\n", word(r.verdict), r.name(),
                       widest, r.expectations, r.expectations == 1 ? " " : "s", to_text(r.time));
    if (!r.error.what.empty()) out += "            " + r.error.text() + "\n";
    if (r.fewest) out += "            " + told(*r.fewest) + "\n";
    if (!r.moment.empty()) out += "            lucid open --at " + r.moment + "\n";
  }
  using Verdict = CaseResult::Verdict;
  out += fmt::format("{} of {} {} held", count(results, Verdict::kHeld), results.size(),
                     results.empty() || results[0].of_case.empty() ? "scripts" : "cases");
  for (const Verdict v : {Verdict::kMissed, Verdict::kError, Verdict::kNotReached})
    if (const std::size_t n = count(results, v); n != 0) out += fmt::format(", {} {}", n, word(v));
  return out + "\n";
}

std::string json_lines(const std::vector<CaseResult>& results) {
  std::string out;
  for (const CaseResult& r : results) {
    nlohmann::json line{{"script", r.script},
                        {"verdict", word(r.verdict)},
                        {"expectations", r.expectations},
                        {"picoseconds", r.time.count}};
    if (!r.error.what.empty())
      line["error"] = {{"what", r.error.what}, {"where", r.error.where}, {"hint", r.error.hint}};
    if (!r.of_case.empty()) line["case"] = r.of_case;
    if (r.fewest) line["fewest"] = *r.fewest;
    if (!r.callers.empty()) line["callers"] = r.callers;
    if (!r.moment.empty()) line["moment"] = r.moment;
    out += line.dump(-1, ' ', false, nlohmann::json::error_handler_t::replace) + "\n";
  }
  return out;
}

int exit_code(const std::vector<CaseResult>& results) {
  for (const CaseResult& r : results) switch (r.verdict) {
      case CaseResult::Verdict::kHeld: break;
      case CaseResult::Verdict::kMissed: return kExitExpectation;
      case CaseResult::Verdict::kError: return exit_code(r.error.code);
      case CaseResult::Verdict::kNotReached: return kExitInterrupted;
    }
  return kExitGood;
}

}  // namespace lucid::app
