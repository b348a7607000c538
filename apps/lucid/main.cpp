// SPDX-License-Identifier: MIT
// The program `lucid`: its command line.
#include <fmt/format.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <cstdlib>
#include <iostream>

#include "console.h"
#include "demo.h"
#include "output.h"
#include "prompt.h"

namespace lucid::app {
namespace {

constexpr std::uint64_t kDefaultLimit = 3'600'000'000'000'000;  // an hour

struct Arguments {
  std::string image, script, chip, clock, bench, on, limit, span = "1s", name, function;
  std::string colour = "auto";
  std::vector<std::string> commands, sources, attach;
  bool json = false;
  bool all = false;
  bool pace = false;
  bool plain_serial = false;
};

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
  // Nobody is there to press Ctrl-C.
  if (isatty(STDIN_FILENO) == 0 || !a.script.empty() || !a.commands.empty())
    options.limit = {kDefaultLimit};
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
    if (a.json) console.show(Standing{console.session()->pause(), false, {}, {}, {}, {}});
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

int open_image(const Arguments& a, Console& console) {
  if (auto opened = prepare(a, console); !opened) return told(opened.error(), console);
  const bool at_prompt = a.commands.empty() && isatty(STDIN_FILENO) != 0;
  if (at_prompt && !a.json) {
    const ChipInfo& info = console.session()->chip().info();
    console.show(
        Message{fmt::format("{} on {} at {} MHz. `help` lists the commands, Tab completes.",
                            a.image, info.name, static_cast<double>(info.clock_hz) / 1e6)});
    play_start(console);
  }
  if (auto done = do_commands(console, a); !done) return failed(console, done.error());
  if (a.commands.empty())
    if (const int code = run_prompt(console); code != kExitGood) return code;
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
    return played;
  });
  return played ? finished(console) : failed(console, played.error());
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

void add_output(CLI::App* command, Arguments& a) {
  command
      ->add_option("--colour", a.colour,
                   "Colours for a dark or light ground: auto, dark, light, none")
      ->type_name("CHOICE")
      ->capture_default_str();
  command->add_flag("--json", a.json, "Write JSON, one object a line");
}

void add_common(CLI::App* command, Arguments& a) {
  command->add_option("--chip", a.chip, "Chip; otherwise what the image says")->type_name("NAME");
  command->add_option("--clock", a.clock, "Oscillator, such as 8MHz; otherwise 16MHz")
      ->type_name("HZ");
  command
      ->add_option(
          "--source", a.sources,
          "Look for sources here, too; FROM=TO maps the beginning of their paths (repeatable)")
      ->type_name("FOLDER|FROM=TO");
  CLI::Option* const bench =
      command->add_option("--bench", a.bench, "What is on the chip's pins, *.bench.toml")
          ->type_name("FILE");
  command->add_option("--on", a.on, "The chip of the bench that is meant, if not the first")
      ->type_name("NAME")
      ->needs(bench);
  command->add_option("--first", a.commands, "Carry out a command first (repeatable)")
      ->type_name("COMMAND");
  command
      ->add_option("--limit", a.limit,
                   "The longest that a command may run, in simulated time; without somebody at a "
                   "terminal 1h")
      ->type_name("TIME");
  command
      ->add_option("--attach", a.attach,
                   "What is at a serial port, as one phrase: 'USART0 terminal', 'USART0 socket "
                   "5555' (time passes as on a clock), 'USART0 files IN OUT' (repeatable)")
      ->type_name("PHRASE");
  add_output(command, a);
}

/// What is wrong with the arguments.
Error in_our_words(const CLI::ParseError& error, const CLI::App& app, const std::string& first) {
  const auto chosen = app.get_subcommands();
  const std::string command = chosen.empty() ? "lucid" : "lucid " + chosen.front()->get_name();
  Error out{ErrorCode::kUsage, "", "", "`" + command + " --help` says what there is"};
  const auto is = [&](auto* kind) { return dynamic_cast<decltype(kind)>(&error) != nullptr; };
  const bool required = is(static_cast<const CLI::RequiredError*>(nullptr));
  const std::string text = error.what();
  const std::string behind =
      text.substr(text.rfind(": ") == std::string::npos ? 0 : text.rfind(": ") + 2);
  if (required && chosen.empty()) {
    out.what = first.empty() ? "what is to be done?" : "what is to be done with '" + first + "'?";
    out.hint = "begin with: lucid open " + (first.empty() ? "main.elf" : first) +
               "; `lucid --help` lists what there is";
  } else if (required) {
    out.what = "an argument is missing: " + text.substr(0, text.find(' '));
  } else if (is(static_cast<const CLI::ExtrasError*>(nullptr))) {
    std::vector<std::string> names;
    for (const CLI::App* sub : app.get_subcommands(nullptr)) names.push_back(sub->get_name());
    out.what = "'" + behind + "' is not expected here";
    if (chosen.empty() && behind.find_first_of("./") != std::string::npos && behind[0] != '-')
      out.hint = "to debug it: lucid open " + behind;
    else if (chosen.empty())
      out.hint = fmt::format("there are {}", fmt::join(names, ", "));
  } else if (is(static_cast<const CLI::ArgumentMismatch*>(nullptr))) {
    out.what = text.substr(0, text.find(':')) + " needs a value behind it";
  } else {
    out.what = text;
  }
  return out;
}

/// `lucid main.elf` opens it, bare `lucid` helps.
std::vector<std::string> completed(int argc, char** argv, const CLI::App& app) {
  std::vector<std::string> out(argv + 1, argv + argc);
  if (out.empty()) return {"--help"};
  const auto commands = app.get_subcommands(nullptr);
  const bool is_command = std::any_of(commands.begin(), commands.end(),
                                      [&](const CLI::App* c) { return c->get_name() == out[0]; });
  if (!is_command && out[0][0] != '-' && access(out[0].c_str(), R_OK) == 0)
    out.insert(out.begin(), "open");
  return out;
}

int main_with(int argc, char** argv) {
  Arguments a;
  CLI::App app{"Lucid Loop: debug microcontroller firmware on a simulated chip", "lucid"};
  app.require_subcommand(1);
  const auto labels = std::make_shared<CLI::Formatter>();
  for (const auto& [stock, ours] :
       std::initializer_list<std::pair<const char*, const char*>>{{"REQUIRED", "(must be given)"},
                                                                  {"TEXT", "NAME"},
                                                                  {"Usage", "Written"},
                                                                  {"OPTIONS", "options"},
                                                                  {"Options", "Options"},
                                                                  {"Positionals", "What it takes"},
                                                                  {"SUBCOMMAND", "command"},
                                                                  {"SUBCOMMANDS", "command"},
                                                                  {"Needs", "goes with"}})
    labels->label(stock, ours);
  app.formatter(labels);
  app.set_help_flag("-h,--help", "Say this");
  app.set_version_flag("--version", "lucid 0.1.0", "Say which version this is");
  app.footer(
      "Example: lucid open main.elf\nExit codes: 0 good, 1 an expectation failed, 2 usage, 3 not "
      "found,\n"
      "4 unusable image, 5 not supported, 6 out of range, 7 input/output, 8 firmware fault,\n"
      "130 interrupted.");

  CLI::App* open = app.add_subcommand("open", "Debug an image at the prompt");
  open->add_option("image", a.image, "ELF or Intel HEX")->required();
  add_common(open, a);
  open->footer("Example: lucid open main.elf --clock 8MHz");

  CLI::App* play =
      app.add_subcommand("play", "Carry out a script; the exit code says whether it held");
  play->add_option("script", a.script, "File of commands, *.loop")->required();
  play->add_option("image", a.image, "Image, if the script does not open one");
  add_common(play, a);
  play->footer("Example: lucid play overshoot.loop");

  CLI::App* run = app.add_subcommand("run", "Run freely and sum up");
  run->add_option("image", a.image, "ELF or Intel HEX")->required();
  run->add_option("--for", a.span, "How long, in simulated time")
      ->type_name("TIME")
      ->capture_default_str();
  run->add_flag("--pace", a.pace, "No faster than real time");
  add_common(run, a);
  run->footer("Example: lucid run main.elf --for 2s --first 'drive PD2 low'");

  CLI::App* listing = app.add_subcommand("listing", "Source and disassembly, interleaved");
  listing->add_option("image", a.image, "ELF or Intel HEX")->required();
  listing->add_option("--function", a.function, "Only this function")->type_name("NAME");
  add_common(listing, a);
  listing->footer("Example: lucid listing main.elf --function main");

  CLI::App* chips = app.add_subcommand("chips", "The chips there are, or one of them");
  chips->add_option("name", a.name, "A chip");
  add_output(chips, a);
  chips->footer("Example: lucid chips ATmega328P");

  CLI::App* demo = app.add_subcommand("demo", "A kiln controller and eight faults to find");
  demo->add_option("name", a.name, "Which one; without it they are listed");
  demo->add_flag("--all", a.all, "Play all of them");
  add_output(demo, a);
  demo->footer("Example: lucid demo overshoot");

  for (CLI::App* command : app.get_subcommands(nullptr)) command->group("Commands");
  try {
    auto words = completed(argc, argv, app);
    std::reverse(words.begin(), words.end());
    app.parse(std::move(words));
  } catch (const CLI::ParseError& error) {
    if (error.get_exit_code() == 0) return app.exit(error), kExitGood;  // help and version
    const bool json =
        std::any_of(argv, argv + argc, [](const std::string& word) { return word == "--json"; });
    return report(in_our_words(error, app, argc > 1 ? argv[1] : ""), json);
  }
  a.plain_serial = run->parsed();
  auto options = options_of(a);
  if (!options) return report(options.error(), a.json);
  if (demo->parsed()) return play_demo(a, *options);
  Console console(*options, std::cout);
  if (open->parsed()) return open_image(a, console);
  if (play->parsed()) return play_script(a, console);
  if (run->parsed()) return run_image(a, console);
  if (listing->parsed()) return list_image(a, console);
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
