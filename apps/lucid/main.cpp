// SPDX-License-Identifier: MIT
// The program `lucid`: what its commands do.
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <iostream>

#include "arguments.h"
#include "cases.h"
#include "console.h"
#include "demo.h"
#include "documents.h"
#include "lucid/waveform.h"
#include "moment_file.h"
#include "output.h"
#include "picture.h"
#include "prompt.h"
#include "serve/serve.h"
#include "suite.h"

namespace lucid::app {
namespace {

constexpr std::uint64_t kDefaultLimit = 3'600'000'000'000'000;  // an hour

/// For what has no answer of its own: on the error stream, or as one.
int report(const Error& error, bool json) {
  if (json) {
    auto writer = json_writer(std::cout);
    writer->begin("null", "", "");
    writer->end(fail(error));
  } else {
    std::cerr << "lucid: " << visible(error.text(), false, locale_has_utf8()) << std::endl;
  }
  return exit_code(error.code);
}

/// For what has: JSON has said it.
int told(const Error& error, const Console& console) {
  if (console.options().output == Output::kJson) return exit_code(error.code);
  return report(error, false);
}

/// `auto`: colours on a terminal that wants them, for the ground that it says it has.
Result<Palette> palette_of(const std::string& word) {
  if (word == "none") return Palette::kNone;
  if (word == "dark") return Palette::kDark;
  if (word == "light") return Palette::kLight;
  if (word != "auto")
    return fail(ErrorCode::kUsage, "'" + word + "' is no choice of colours",
                "there are auto, dark, light and none");
  const auto setting = [](const char* name) {
    const char* value = std::getenv(name);
    return std::string(value == nullptr ? "" : value);
  };
  if (isatty(STDOUT_FILENO) == 0 || !setting("NO_COLOR").empty() || setting("TERM") == "dumb")
    return Palette::kNone;
  // Some terminals tell: text's colour ; ground's colour.
  const std::string ground = setting("COLORFGBG");
  const std::string last = ground.substr(ground.rfind(';') + 1);
  return last == "7" || last == "15" ? Palette::kLight : Palette::kDark;
}

Result<Console::Options> options_of(const Arguments& a) {
  Console::Options options;
  options.chip = a.chip;
  options.bench = a.bench;
  options.on = a.on;
  options.source_folders = a.sources;
  options.output = a.json ? Output::kJson : Output::kText;
  const auto palette = palette_of(a.colour);
  if (!palette) return fail(palette.error());
  options.style.palette = *palette;
  options.style.terminal = isatty(STDOUT_FILENO) != 0;
  options.style.utf8 = locale_has_utf8();
  options.style.echo = !a.script.empty();
  options.style.plain_serial = a.plain_serial;
  options.pace = a.pace;
  options.timeline = !a.no_timeline;
  options.screen =
      !a.json && options.style.terminal && isatty(STDIN_FILENO) != 0 && a.script.empty();
  // Nobody is there to press Ctrl-C.
  if (isatty(STDIN_FILENO) == 0 || !a.script.empty() || !a.commands.empty())
    options.limit = {kDefaultLimit};
  options.renew = a.renew;
  if (!a.limit.empty()) {
    auto limit = parse_time(a.limit);
    if (!limit) return fail(limit.error());
    options.limit = *limit;
  }
  if (!a.clock.empty()) {
    auto hz = parse_frequency(a.clock);
    if (!hz) return fail(hz.error());
    options.clock_hz = *hz;
  }
  return options;
}

Result<void> do_commands(Console& console, const Arguments& a) {
  for (const std::string& command : a.commands) {
    if (auto done = console.execute(command); !done) {
      Error error = done.error();
      error.where = "--first '" + command + "'" + (error.where.empty() ? "" : ", " + error.where);
      return fail(std::move(error));
    }
  }
  return {};
}

/// What has gone wrong without ending anything.
int finished(Console& console) {
  if (console.interrupted()) return kExitInterrupted;
  if (console.session() != nullptr)
    for (const PartState& part : console.session()->chip().parts())
      if (part.failed)
        return report({ErrorCode::kUsage, part.name + " " + part.state, "", ""},
                      console.options().output == Output::kJson),
               kExitExpectation;
  return kExitGood;
}

int failed(const Console& console, const Error& error) {
  if (console.interrupted()) return kExitInterrupted;
  const int code = told(error, console);
  return console.expectation_failed() ? kExitExpectation : code;
}

/// Opens the image, and puts things at serial ports.
Result<void> prepare(const Arguments& a, Console& console) {
  return console.answer("open " + a.image, [&]() -> Result<void> {
    if (auto opened = console.open(a.image); !opened) return opened;
    for (const std::string& phrase : a.attach)
      if (auto attached = console.attach(phrase); !attached) return attached;
    if (a.json) console.show(Standing{console.session()->pause(), false, {}, {}, {}, {}, {}});
    return {};
  });
}

/// A session at the prompt begins with the user's own start.loop.
void play_start(Console& console) {
  std::string folder;
  if (const char* config = std::getenv("XDG_CONFIG_HOME"); config != nullptr && *config != '\0')
    folder = config;
  else if (const char* home = std::getenv("HOME"); home != nullptr && *home != '\0')
    folder = std::string(home) + "/.config";
  const std::string path = folder + "/lucid/start.loop";
  if (folder.empty() || access(path.c_str(), R_OK) != 0) return;
  if (auto played = console.play(path); !played) console.show_error(played.error());
}

int open_image(const Arguments& a, Console& console, const std::string& timeline) {
  if (auto opened = prepare(a, console); !opened) return told(opened.error(), console);
  if (!timeline.empty()) {
    catch_interrupts(console);
    const auto followed =
        console.answer("open --at " + a.at, [&] { return console.follow(timeline); });
    if (!followed) return told(followed.error(), console);
  }
  if (a.screen && !console.options().screen)
    return told({ErrorCode::kUsage, "the screen needs a terminal for keys and for drawing",
                 "--screen", "leave --json away, and input and output to the terminal"},
                console);
  const bool at_prompt = (a.commands.empty() || a.screen) && isatty(STDIN_FILENO) != 0;
  if (at_prompt && !a.json) {
    const ChipInfo& info = console.session()->chip().info();
    console.show(
        Message{fmt::format("{} on {} at {} MHz. `help` lists the commands, Tab completes.",
                            a.image, info.name, static_cast<double>(info.clock_hz) / 1e6)});
    play_start(console);
  }
  if (auto done = do_commands(console, a); !done) return failed(console, done.error());
  if (a.commands.empty() || a.screen)
    if (const int code = run_prompt(console, a.screen); code != kExitGood) return code;
  return finished(console);
}

int play_script(const Arguments& a, Console& console) {
  catch_interrupts(console);
  if (!a.image.empty())
    if (auto opened = prepare(a, console); !opened) return told(opened.error(), console);
  auto played = console.play(a.script);
  if (played) played = do_commands(console, a);
  played = console.answer("play " + a.script, [&]() -> Result<void> {
    if (played && console.expectations() != 0)
      console.show(
          Message{fmt::format("{}: {} expectation{} held", a.script, console.expectations(),
                              console.expectations() == 1 ? "" : "s")});
    const std::string moment = std::filesystem::path(a.script).stem().string() + ".moment";
    if (!played && console.expectation_failed() && console.save_moment(moment))
      console.show(Message{"to look around there: lucid open --at " + moment});
    return played;
  });
  return played ? finished(console) : failed(console, played.error());
}

/// Scripts and the image apart.
Result<void> sort_out(Arguments& a) {
  std::vector<std::string> scripts;
  a.image = a.play_image;
  for (const std::string& name : a.scripts) {
    // A single one is a script by whatever name.
    if (a.scripts.size() == 1 || std::filesystem::path(name).extension() == ".loop") {
      scripts.push_back(name);
    } else if (a.image.empty()) {
      a.image = name;
    } else {
      return fail(ErrorCode::kUsage, "'" + name + "' is one image more than there can be",
                  "scripts end in .loop");
    }
  }
  if (scripts.empty())
    return fail(ErrorCode::kUsage, "there is no script among them", "scripts end in .loop");
  a.scripts = std::move(scripts);
  a.script = a.scripts.front();
  return {};
}

/// Several scripts, or a report: each on its own machine.
int play_suite(const Arguments& a, const Console::Options& options) {
  if (!a.commands.empty() || !a.attach.empty())
    return report({ErrorCode::kUsage, "--first and --attach are for one script without a report",
                   "", "put such commands into the scripts"},
                  a.json);
  SuiteOptions suite;
  suite.scripts = a.scripts;
  suite.image = a.image;
  suite.jobs = a.jobs;
  if (!a.cases.empty()) {
    auto cases = read_cases(a.cases);
    if (!cases) return report(cases.error(), a.json);
    suite.cases = std::move(*cases);
  }
  if (!a.wall.empty()) {
    const auto wall = parse_time(a.wall);
    if (!wall) return report(wall.error(), a.json);
    suite.wall = std::chrono::milliseconds(wall->count / 1'000'000'000);
  }
  const bool tells = isatty(STDERR_FILENO) != 0 && !a.json;
  suite.on_finished = [&](const CaseResult& result, std::size_t finished) {
    if (tells)
      std::cerr << "\r\x1b[K" << finished << " of "
                << a.scripts.size() * std::max<std::size_t>(suite.cases.size(), 1) << ": "
                << visible(result.name(), false, locale_has_utf8()) << std::flush;
  };
  Console::Options each = options;
  each.output = Output::kText;
  each.style.terminal = false;
  const auto results = play_all(each, suite);
  if (tells) std::cerr << "\r\x1b[K" << std::flush;
  if (!a.report.empty())
    if (auto written = write_file(a.report, junit_xml(results)); !written)
      return report(written.error(), a.json);
  if (a.json) {
    std::cout << json_lines(results);
  } else {
    for (const CaseResult& result : results)
      if (result.verdict != CaseResult::Verdict::kHeld) std::cout << result.output;
    std::cout << visible(table(results), false, locale_has_utf8());
  }
  return exit_code(results);
}

int run_image(const Arguments& a, Console& console) {
  auto span = parse_time(a.span);
  if (!span) return report(span.error(), a.json);
  if (auto opened = prepare(a, console); !opened) return told(opened.error(), console);
  catch_interrupts(console);
  if (auto done = do_commands(console, a); !done) return failed(console, done.error());
  Session& session = *console.session();
  Pause pause;
  (void)console
      .answer("run " + a.image,
              [&]() -> Result<void> {
                pause = console.run_for(*span);
                console.pause_serial();
                Standing standing;
                standing.pause = pause;
                if (auto source = session.source("here", 1); source && source->problem.empty())
                  standing.source = *source;
                console.show(standing);
                console.tell_lost();
                console.show(session.time());
                console.show(session.stack(0));
                console.show(Pins{session.pins()});
                if (!session.chip().parts().empty()) console.show(Parts{session.chip().parts()});
                return {};
              })
      .has_value();
  if (pause.cause == Pause::Cause::kFault) return kExitFault;
  return finished(console);
}

/// What would be in the way at the end is found at once.
int survey_image(const Arguments& a, Console& console) {
  const auto span = parse_time(a.span);
  if (!span) return report(span.error(), a.json);
  if (!a.against.empty())
    if (auto other = coverage_in(a.against); !other) return report(other.error(), a.json);
  std::error_code problem;
  if (!a.results.empty() && (std::filesystem::create_directories(a.results, problem), problem))
    return report(
        {ErrorCode::kIo, "the folder '" + a.results + "' cannot be made", "", problem.message()},
        a.json);
  if (auto opened = prepare(a, console); !opened) return told(opened.error(), console);
  catch_interrupts(console);
  auto done = console.session()->survey(Session::Survey::kWithCalls);
  if (done) done = do_commands(console, a);
  if (done) done = a.script.empty() ? console.execute("go for " + a.span) : console.play(a.script);
  std::vector<std::string> views{"show profile", "show profile calls", "show coverage",
                                 "show interrupts"};
  if (!a.against.empty()) views.push_back("show coverage against " + a.against);
  const std::filesystem::path results = a.results;
  if (!a.results.empty())
    for (const auto& [what, name] :
         {std::pair{"coverage", "coverage.info"}, std::pair{"profile", "profile.html"}})
      views.push_back(fmt::format("export {} into {}", what, (results / name).string()));
  for (const std::string& view : views)
    if (done) done = console.execute(view);
  if (!done) return failed(console, done.error());
  if (console.session()->pause().cause == Pause::Cause::kFault) return kExitFault;
  return finished(console);
}

int list_image(const Arguments& a, Console& console) {
  if (auto opened = prepare(a, console); !opened) return told(opened.error(), console);
  const Session& session = *console.session();
  const auto list = [&]() -> Result<void> {
    std::vector<std::pair<std::uint32_t, std::uint32_t>> ranges;
    for (const Function& f : session.program().functions())
      if (a.function.empty() || f.name == a.function) ranges.emplace_back(f.begin, f.end);
    if (ranges.empty() && !a.function.empty())
      return fail(
          Error{ErrorCode::kNotFound, "there is no function '" + a.function + "'", a.image, ""});
    if (ranges.empty()) {
      std::uint32_t end = 0;
      auto image = Image::open(a.image);
      if (!image) return fail(image.error());
      for (const Segment& s : image->segments())
        if (s.address.space == Space::kCode)
          end = std::max(end, s.address.offset + static_cast<std::uint32_t>(s.bytes.size()));
      ranges.emplace_back(0, end);
    }
    for (const auto& [begin, end] : ranges) {
      auto view = session.disassembly(fmt::format("{:#x}", begin), (end - begin) / 2 + 1, true);
      if (!view) return fail(view.error());
      while (!view->rows.empty() && view->rows.back().instruction.address >= end)
        view->rows.pop_back();
      for (DisassemblyView::Row& row : view->rows) row.current = false;
      if (!view->rows.empty()) console.show(*view);
    }
    return {};
  };
  const auto listed = console.answer("listing " + a.image, list);
  return listed ? kExitGood : told(listed.error(), console);
}

Result<DivergenceOptions> alignment(const Arguments& a) {
  DivergenceOptions out;
  using Align = DivergenceOptions::Align;
  const std::string writes = "writes ";
  if (a.align == "serial")
    out.align = Align::kSerial;
  else if (a.align == "pins")
    out.align = Align::kPins;
  else if (a.align.rfind(writes, 0) == 0)
    out.align = Align::kWrites, out.object = a.align.substr(writes.size());
  else if (a.align != "calls")
    return fail(ErrorCode::kUsage, "'" + a.align + "' is nothing to align by",
                "there are calls, 'writes OBJECT', serial and pins");
  auto span = parse_time(a.at_most);
  if (!span) return fail(span.error());
  out.span = *span;
  return out;
}

int diverge(const Arguments& a, const Console::Options& options) {
  const auto at = [](const std::vector<std::string>& list, std::size_t side) {
    return list.empty() ? std::string() : list[std::min(side, list.size() - 1)];
  };
  auto how = alignment(a);
  if (!how) return report(how.error(), a.json);
  if (a.benches.size() > 2 || a.chips.size() > 2)
    return report({ErrorCode::kUsage, "there are two sides, not more", "", ""}, a.json);
  Parting parting;
  parting.images = {a.image, a.other};
  std::vector<std::unique_ptr<Console>> sides;
  for (const std::string& image : parting.images) {
    Console::Options own = options;
    own.bench = at(a.benches, sides.size());
    own.chip = at(a.chips, sides.size());
    sides.push_back(std::make_unique<Console>(own, std::cout));
    Console& console = *sides.back();
    const auto prepared = console.answer("open " + image, [&] { return console.open(image); });
    if (!prepared) return told(prepared.error(), console);
    if (auto done = do_commands(console, a); !done) return failed(console, done.error());
  }
  Console& console = *sides[0];
  catch_interrupts(console);
  const auto found = console.answer("diverge", [&]() -> Result<void> {
    how->go_on = [&](Picoseconds now) {
      console.on_progress(now);
      return !console.interrupted();
    };
    auto divergence = first_divergence(*sides[0]->session(), *sides[1]->session(), *how);
    if (!divergence) return fail(divergence.error());
    parting.divergence = std::move(*divergence);
    if (parting.divergence.a || parting.divergence.b)
      for (std::size_t i = 0; i < sides.size(); ++i) {
        const char* name = i == 0 ? "diverge-1.moment" : "diverge-2.moment";
        parting.files.push_back((std::filesystem::path(a.into) / name).lexically_normal().string());
        if (auto saved = sides[i]->save_moment(parting.files.back()); !saved) return saved;
      }
    console.show(parting);
    return {};
  });
  if (!found) return failed(console, found.error());
  return parting.files.empty() ? kExitGood : kExitExpectation;
}

/// What is to be drawn of a file, and how.
Result<std::pair<std::vector<Signal>, PlotOptions>> drawing_of(const Arguments& a) {
  auto signals = open_waveforms(a.image);
  if (!signals) return fail(signals.error());
  if (!a.name.empty()) {
    std::vector<Signal> chosen;
    std::vector<std::string> names;
    for (const Signal& signal : *signals) names.push_back(signal.name());
    for (const std::string& name : names_in(a.name)) {
      const auto found = std::find(names.begin(), names.end(), name);
      if (found == names.end())
        return fail(ErrorCode::kNotFound, "there is no signal '" + name + "' in it",
                    did_you_mean(name, names));
      chosen.push_back((*signals)[static_cast<std::size_t>(found - names.begin())]);
    }
    *signals = std::move(chosen);
  }
  PlotOptions options;
  std::tie(options.from, options.to) = extent(*signals);
  for (const auto& [text, time] :
       {std::pair{&a.from, &options.from}, std::pair{&a.to, &options.to}}) {
    if (text->empty()) continue;
    const auto parsed = time_of(*text);
    if (!parsed) return fail(ErrorCode::kUsage, "'" + *text + "' is no time", "such as 12.5ms");
    *time = *parsed;
  }
  if (!a.size.empty()) {
    const std::size_t by = a.size.find('x');
    const auto number = [](const std::string& text) {
      return static_cast<unsigned>(
          std::min<std::uint64_t>(parse_number(text).value_or(0), UINT32_MAX));
    };
    options.width = number(a.size.substr(0, by));
    options.height = by == std::string::npos ? 0 : number(a.size.substr(by + 1));
    if (options.width == 0 || options.height == 0)
      return fail(ErrorCode::kUsage, "'" + a.size + "' is no size", "such as 1280x800");
  }
  options.dark = a.dark;
  options.title = std::filesystem::path(a.image).filename().string();
  options.detail = to_text(options.from) + " to " + to_text(options.to);
  return std::pair{std::move(*signals), std::move(options)};
}

int plot_file(const Arguments& a, Console& console) {
  const auto drawn = console.answer("plot " + a.image, [&]() -> Result<void> {
    auto drawing = drawing_of(a);
    if (!drawing) return fail(drawing.error());
    auto& [signals, options] = *drawing;
    if (auto some = check_extent(signals, options); !some) return some;
    if (a.picture.empty()) {
      console.show(Drawing{std::move(signals), options.from, options.to});
      return {};
    }
    if (auto done = draw_into(a.picture, signals, options); !done) return done;
    console.show(Message{std::to_string(signals.size()) + " signals drawn into " + a.picture});
    return {};
  });
  return drawn ? kExitGood : told(drawn.error(), console);
}

int list_chips(const Arguments& a, Console& console) {
  const auto listed = console.answer("chips " + a.name, [&]() -> Result<void> {
    if (a.name.empty()) {
      console.show(Chips{Chip::catalogue()});
      return {};
    }
    auto chip = Chip::make({a.name, 16'000'000});
    if (!chip) return fail(chip.error());
    ChipFacts facts{chip->info(), {}, {}};
    for (const IoRegister& io : facts.info.io) {
      auto& list = io.modelled ? facts.modelled : facts.registers_only;
      if (std::find(list.begin(), list.end(), io.peripheral) == list.end())
        list.push_back(io.peripheral);
    }
    console.show(facts);
    return {};
  });
  return listed ? kExitGood : told(listed.error(), console);
}

int play_demo(const Arguments& a, const Console::Options& options) {
  auto folder = demo_folder();
  if (!folder) return report(folder.error(), a.json);
  if (a.name.empty() && !a.all) {
    Console console(options, std::cout);
    (void)console
        .answer("demo",
                [&]() -> Result<void> {
                  Demos list{*folder, {}};
                  for (const Demo& demo : demos()) list.list.push_back({demo.name, demo.summary});
                  console.show(list);
                  return {};
                })
        .has_value();
    return kExitGood;
  }
  int worst = kExitGood;
  bool found = false;
  for (const Demo& demo : demos()) {
    if (!a.all && a.name != demo.name) continue;
    found = true;
    Console::Options echoing = options;
    echoing.style.echo = true;
    Console console(echoing, std::cout);
    Arguments one = a;
    one.script = *folder + "/" + demo.name + ".loop";
    worst = std::max(worst, play_script(one, console));
    if (a.all && !a.json) std::cout << "\n";
  }
  if (!found)
    return report({ErrorCode::kNotFound, "there is no demonstration '" + a.name + "'", "",
                   "`lucid demo` lists them"},
                  a.json);
  return worst;
}

int main_with(int argc, char** argv) {
  Arguments a;
  auto parsed = parse_arguments(argc, argv, a);
  if (!parsed) return report(parsed.error(), a.json);
  if (!parsed->text.empty()) {
    std::cout << parsed->text;
    return kExitGood;
  }
  const std::string& command = parsed->command;
  if (command == "documents") {
    auto text = document(a.name);
    if (!text) return report(text.error(), false);
    std::cout << *text;
    return kExitGood;
  }
  a.plain_serial = command == "run";
  std::string more_bench, timeline;
  if (command == "open" && a.at.empty() && a.image.empty())
    return report({ErrorCode::kUsage, "an argument is missing: image", "",
                   "lucid open main.elf, or lucid open --at FILE"},
                  a.json);
  if (!a.at.empty()) {
    auto moment = read_moment(a.at);
    if (!moment) return report(moment.error(), a.json);
    a.image = moment->image;
    a.bench = moment->bench;
    a.on = moment->on;
    more_bench = moment->more_bench;
    a.chip = moment->chip;
    a.clock = std::to_string(moment->clock_hz) + "Hz";
    timeline = moment->timeline;
  }
  if (command == "play")
    if (auto sorted = sort_out(a); !sorted) return report(sorted.error(), a.json);
  auto options = options_of(a);
  if (!options) return report(options.error(), a.json);
  options->more_bench = more_bench;
  if (command == "demo") return play_demo(a, *options);
  if (command == "diverge") return diverge(a, *options);
  if (command == "serve" && a.limit.empty()) options->limit = {};  // somebody is there
  if (command == "serve" && (!a.commands.empty() || !a.attach.empty() || a.json))
    return report({ErrorCode::kUsage, "--first, --attach and --json are not for `serve`", "",
                   "the editor's launch block has `first`; its console takes `attach`"},
                  false);
  if (command == "serve" && a.port == 0) return serve_here(*options);
  if (command == "serve") {
    const auto served = serve_port(*options, a.port);
    return served ? *served : report(served.error(), false);
  }
  if (command == "play" &&
      (a.scripts.size() > 1 || !a.report.empty() || !a.wall.empty() || !a.cases.empty()))
    return play_suite(a, *options);
  Console console(*options, std::cout);
  if (command == "open") return open_image(a, console, timeline);
  if (command == "play") return play_script(a, console);
  if (command == "run") return run_image(a, console);
  if (command == "survey") return survey_image(a, console);
  if (command == "listing") return list_image(a, console);
  if (command == "plot") return plot_file(a, console);
  return list_chips(a, console);
}

}  // namespace
}  // namespace lucid::app

int main(int argc, char** argv) {
  using namespace lucid::app;
  try {
    const int code = main_with(argc, argv);
    std::cout.flush();
    if (std::cout) return code;
    std::cerr << "lucid: the output could not be written" << std::endl;
    return kExitIo;
  } catch (const std::exception& error) {
    std::cerr << "lucid: " << error.what() << std::endl;
    return kExitIo;
  }
}
