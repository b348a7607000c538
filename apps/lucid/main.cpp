// SPDX-License-Identifier: MIT
// The program `lucid`: its command line.
#include <fmt/format.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
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
  std::vector<std::string> commands, sources, attach;
  bool json = false;
  bool all = false;
  bool pace = false;
};

int report(const Error& error, bool json) {
  if (json)
    std::cout << error_to_json(error) << std::flush;
  else
    std::cerr << "lucid: " << visible(error.text(), false, locale_has_utf8()) << std::endl;
  return exit_code(error.code);
}

bool colour_wanted() {
  const char* no_colour = std::getenv("NO_COLOR");
  const char* terminal = std::getenv("TERM");
  return isatty(STDOUT_FILENO) != 0 && (no_colour == nullptr || *no_colour == '\0') &&
         (terminal == nullptr || std::string(terminal) != "dumb");
}

Result<Console::Options> options_of(const Arguments& a) {
  Console::Options options;
  options.chip = a.chip;
  options.bench = a.bench;
  options.on = a.on;
  options.source_folders = a.sources;
  options.json = a.json;
  options.colour = !a.json && colour_wanted();
  options.terminal = isatty(STDOUT_FILENO) != 0;
  options.utf8 = locale_has_utf8();
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
                      console.options().json),
               kExitExpectation;
  return kExitGood;
}

int failed(const Console& console, const Error& error) {
  if (console.interrupted()) return kExitInterrupted;
  const int code = report(error, console.options().json);
  return console.expectation_failed() ? kExitExpectation : code;
}

int open_image(const Arguments& a, Console& console) {
  if (auto opened = console.open(a.image); !opened) return report(opened.error(), a.json);
  if (a.commands.empty() && !a.json && isatty(STDIN_FILENO) != 0)
    console.show(Message{console.style().dim(
        fmt::format("{} on {} at {} MHz. `help` lists the commands, Tab completes.", a.image,
                    console.session()->chip().info().name,
                    static_cast<double>(console.session()->chip().info().clock_hz) / 1e6))});
  if (auto done = do_commands(console, a); !done) return failed(console, done.error());
  if (a.commands.empty())
    if (const int code = run_prompt(console); code != kExitGood) return code;
  return finished(console);
}

int play_script(const Arguments& a, Console& console) {
  catch_interrupts(console);
  console.set_echo(true);
  if (!a.image.empty())
    if (auto opened = console.open(a.image); !opened) return report(opened.error(), a.json);
  if (auto played = console.play(a.script); !played) return failed(console, played.error());
  if (auto done = do_commands(console, a); !done) return failed(console, done.error());
  if (console.expectations() != 0)
    console.show(Message{fmt::format("{}: {} expectation{} held", a.script, console.expectations(),
                                     console.expectations() == 1 ? "" : "s")});
  return finished(console);
}

int run_image(const Arguments& a, Console& console) {
  if (auto opened = console.open(a.image); !opened) return report(opened.error(), a.json);
  catch_interrupts(console);
  console.set_plain_serial(true);
  if (auto done = do_commands(console, a); !done) return failed(console, done.error());
  Session& session = *console.session();
  auto span = parse_time(a.span);
  if (!span) return report(span.error(), a.json);
  for (const std::string& phrase : a.attach)
    if (auto attached = console.attach(phrase); !attached) return report(attached.error(), a.json);
  const Pause pause = console.run_for(*span);
  console.end_serial_line();
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
  if (pause.cause == Pause::Cause::kFault) return kExitFault;
  return finished(console);
}

int list_image(const Arguments& a, Console& console) {
  if (auto opened = console.open(a.image); !opened) return report(opened.error(), a.json);
  const Session& session = *console.session();
  const Program& program = session.program();
  std::vector<std::pair<std::uint32_t, std::uint32_t>> ranges;
  for (const Function& f : program.functions())
    if (a.function.empty() || f.name == a.function) ranges.emplace_back(f.begin, f.end);
  if (ranges.empty() && !a.function.empty())
    return report({ErrorCode::kNotFound, "there is no function '" + a.function + "'", a.image, ""},
                  a.json);
  if (ranges.empty()) {
    std::uint32_t end = 0;
    auto image = Image::open(a.image);
    for (const Segment& s : image->segments())
      if (s.address.space == Space::kCode)
        end = std::max(end, s.address.offset + static_cast<std::uint32_t>(s.bytes.size()));
    ranges.emplace_back(0, end);
  }
  for (const auto& [begin, end] : ranges) {
    auto view = session.disassembly(fmt::format("{:#x}", begin), (end - begin) / 2 + 1, true);
    if (!view) return report(view.error(), a.json);
    while (!view->rows.empty() && view->rows.back().instruction.address >= end)
      view->rows.pop_back();
    for (DisassemblyView::Row& row : view->rows) row.current = false;
    if (!view->rows.empty()) console.show(*view);
  }
  return kExitGood;
}

int list_chips(const Arguments& a, Console& console) {
  if (a.name.empty()) {
    console.show(Chips{Chip::catalogue()});
    return kExitGood;
  }
  auto chip = Chip::make({a.name, 16'000'000});
  if (!chip) return report(chip.error(), a.json);
  const ChipInfo& info = chip->info();
  std::string text = fmt::format(" {}, core {}\n", info.name, info.core);
  for (const MemoryArea& m : info.memories)
    text += fmt::format("   {:<10} {:#06x} to {:#06x}  {} bytes\n", m.name, m.begin, m.end - 1,
                        m.end - m.begin);
  std::string modelled;
  std::string missing;
  for (const IoRegister& io : info.io) {
    std::string& list = io.modelled ? modelled : missing;
    if (list.find(" " + io.peripheral) == std::string::npos) list += " " + io.peripheral;
  }
  text += "   modelled:" + modelled + "\n";
  if (!missing.empty()) text += "   registers only:" + missing;
  console.show(Message{text});
  return kExitGood;
}

int play_demo(const Arguments& a, const Console::Options& options) {
  auto folder = demo_folder();
  if (!folder) return report(folder.error(), a.json);
  if (a.name.empty() && !a.all) {
    std::cout << "A kiln controller, and eight builds of it with one fault each:\n\n";
    for (const Demo& demo : demos())
      std::cout << fmt::format("  {:<15} {}\n", demo.name, demo.summary);
    std::cout << "\nPlay one with `lucid demo NAME`, all with `lucid demo --all`. To look around "
                 "yourself:\n"
              << "  lucid open " << *folder << "/images/kiln-og.elf\n";
    return kExitGood;
  }
  int worst = kExitGood;
  bool found = false;
  for (const Demo& demo : demos()) {
    if (!a.all && a.name != demo.name) continue;
    found = true;
    Console console(options, std::cout);
    Arguments one = a;
    one.script = *folder + "/" + demo.name + ".loop";
    worst = std::max(worst, play_script(one, console));
    if (a.all) std::cout << "\n";
  }
  if (!found)
    return report({ErrorCode::kNotFound, "there is no demonstration '" + a.name + "'", "",
                   "`lucid demo` lists them"},
                  a.json);
  return worst;
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
  command->add_flag("--json", a.json, "Write JSON, one object a line");
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

int main_with(int argc, char** argv) {
  Arguments a;
  CLI::App app{"Lucid Loop: debug microcontroller firmware on a simulated chip", "lucid"};
  app.require_subcommand(1);
  const auto words = std::make_shared<CLI::Formatter>();
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
    words->label(stock, ours);
  app.formatter(words);
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
  run->add_option("--attach", a.attach,
                  "What is at a serial port, as one phrase: 'USART0 terminal', 'USART0 socket "
                  "5555' (time passes as on a clock), 'USART0 files IN OUT' (repeatable)")
      ->type_name("PHRASE");
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
  chips->add_flag("--json", a.json, "Write JSON, one object a line");
  chips->footer("Example: lucid chips ATmega328P");

  CLI::App* demo = app.add_subcommand("demo", "A kiln controller and eight faults to find");
  demo->add_option("name", a.name, "Which one; without it they are listed");
  demo->add_flag("--all", a.all, "Play all of them");
  demo->add_flag("--json", a.json, "Write JSON, one object a line");
  demo->footer("Example: lucid demo overshoot");

  for (CLI::App* command : app.get_subcommands(nullptr)) command->group("Commands");
  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& error) {
    if (error.get_exit_code() == 0) return app.exit(error), kExitGood;  // help and version
    return report(in_our_words(error, app, argc > 1 ? argv[1] : ""), a.json);
  }
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
