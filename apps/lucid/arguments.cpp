// SPDX-License-Identifier: MIT
#include "arguments.h"

#include <fmt/format.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <algorithm>

#include "console.h"

namespace lucid::app {

const std::vector<ExitFact>& exit_facts() {
  static const std::vector<ExitFact> kFacts{
      {kExitGood, "good"},
      {kExitExpectation, "an expectation did not hold, or an answer did not come"},
      {kExitUsage, "usage"},
      {kExitNotFound, "not found"},
      {kExitBadImage, "unusable image"},
      {kExitUnsupported, "not supported"},
      {kExitOutOfRange, "out of range"},
      {kExitIo, "input or output failed"},
      {kExitFault, "the firmware misbehaved (run)"},
      {kExitInterrupted, "interrupted"},
  };
  return kFacts;
}

namespace {

void add_output(CLI::App* command, Arguments& a) {
  command
      ->add_option("--colour", a.colour,
                   "Colours for a dark or light ground: auto, dark, light, none")
      ->type_name("CHOICE")
      ->capture_default_str();
  command->add_flag("--json", a.json, "Write JSON, one object a line");
}

void add_span(CLI::App* command, Arguments& a) {
  command->add_option("--for", a.span, "How long, in simulated time")
      ->type_name("TIME")
      ->capture_default_str();
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
  command->add_flag("--no-timeline", a.no_timeline, "Keep nothing of the past: one cannot go back");
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
    std::vector<std::string> names;
    for (const CLI::App* sub : app.get_subcommands(nullptr)) names.push_back(sub->get_name());
    out.hint = did_you_mean(first, names);
    if (out.hint.empty())
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
  const bool is_path = out[0].find_first_of("./") != std::string::npos;
  if (!is_command && out[0][0] != '-' && (is_path || access(out[0].c_str(), R_OK) == 0))
    out.insert(out.begin(), "open");
  return out;
}

void declare(CLI::App& app, Arguments& a) {
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
  std::string codes;
  for (const ExitFact& fact : exit_facts())
    codes += fmt::format("  {:>3}  {}\n", fact.code, fact.words);
  app.footer("Example: lucid open main.elf\n\nExit codes:\n" + codes +
             "\nEnvironment: NO_COLOR (no colours), COLORFGBG (the terminal's ground), "
             "XDG_STATE_HOME (history), XDG_CONFIG_HOME (lucid/start.loop)");

  CLI::App* open = app.add_subcommand("open", "Debug an image at the prompt");
  CLI::Option* const image = open->add_option("image", a.image, "ELF or Intel HEX");
  open->add_option("--at", a.at,
                   "A moment that `timeline save FILE` has written, with its image and bench; what "
                   "came before it can be gone back to")
      ->type_name("FILE")
      ->excludes(image);
  open->add_flag("--screen", a.screen,
                 "Begin with the full-screen view; `screen` leads to it, too");
  add_common(open, a);
  open->footer("Example: lucid open main.elf --clock 8MHz");

  CLI::App* serve =
      app.add_subcommand("serve", "Let an editor debug, by the Debug Adapter Protocol");
  serve
      ->add_option("--port", a.port,
                   "Listen at this port of 127.0.0.1, for any number of editors; else one is "
                   "served over standard input and output")
      ->type_name("N")
      ->check(CLI::Range(1, 65535));
  add_common(serve, a);
  serve->footer("Example: lucid serve --port 5555");

  CLI::App* play =
      app.add_subcommand("play", "Carry out scripts; the exit code says whether they held");
  play->add_option("script", a.scripts,
                   "Files of commands, *.loop; anything else is the image for those that open none")
      ->required();
  play->add_option("--image", a.play_image, "The image for scripts that open none")
      ->type_name("IMAGE");
  play->add_option("--jobs", a.jobs, "Carry out so many side by side, each on its own machine")
      ->type_name("N")
      ->check(CLI::Range(1, 256));
  play->add_option("--report", a.report, "Write the verdicts into a file of JUnit XML")
      ->type_name("FILE");
  play->add_option(
          "--cases", a.cases,
          "Carry each script out once for every [[case]] of this file: inputs, values, images")
      ->type_name("FILE");
  play->add_flag("--renew", a.renew,
                 "Write the files of `expect … same as FILE` anew, from what is there now");
  play->add_option("--wall", a.wall, "The longest that a script may take, by the clock")
      ->type_name("TIME");
  add_common(play, a);
  play->footer("Example: lucid play *.loop --jobs 4 --report junit.xml");

  CLI::App* run = app.add_subcommand("run", "Run freely and sum up");
  run->add_option("image", a.image, "ELF or Intel HEX")->required();
  add_span(run, a);
  run->add_flag("--pace", a.pace, "No faster than real time");
  add_common(run, a);
  run->footer("Example: lucid run main.elf --for 2s --first 'drive PD2 low'");

  CLI::App* survey = app.add_subcommand(
      "survey", "What a whole run does: where cycles go, what never runs, how interrupts wait");
  survey->add_option("image", a.image, "ELF or Intel HEX")->required();
  add_span(survey, a);
  survey->add_option("--script", a.script, "Carry out a script, *.loop, instead")
      ->type_name("FILE");
  survey
      ->add_option("--against", a.against,
                   "Tell which lines only this run has executed, and which only the one in a file "
                   "of LCOV")
      ->type_name("FILE");
  survey
      ->add_option("--into", a.results,
                   "Write coverage.info (LCOV) and profile.html (for a browser) into this folder")
      ->type_name("FOLDER");
  add_common(survey, a);
  survey->footer("Example: lucid survey main.elf --for 10s --first 'feed USART0 \"G\\n\"'");

  CLI::App* listing = app.add_subcommand("listing", "Source and disassembly, interleaved");
  listing->add_option("image", a.image, "ELF or Intel HEX")->required();
  listing->add_option("--function", a.function, "Only this function")->type_name("NAME");
  add_common(listing, a);
  listing->footer("Example: lucid listing main.elf --function main");

  CLI::App* diverge = app.add_subcommand("diverge", "Where two builds part, or two inputs");
  diverge->add_option("image", a.image, "ELF or Intel HEX")->required();
  diverge->add_option("other", a.other, "The other one; with two benches it may be the same")
      ->required();
  diverge
      ->add_option("--bench", a.benches,
                   "What is on the chip's pins; given twice: the first image's, the other's")
      ->type_name("FILE")
      ->expected(1)
      ->take_all();
  diverge->add_option("--chip", a.chips, "Chip; given twice: the first image's, the other's")
      ->type_name("NAME")
      ->expected(1)
      ->take_all();
  diverge->add_option("--clock", a.clock, "Oscillator, such as 8MHz; otherwise 16MHz")
      ->type_name("HZ");
  diverge
      ->add_option("--source", a.sources,
                   "Look for sources here, too; FROM=TO maps the beginning of their paths "
                   "(repeatable)")
      ->type_name("FOLDER|FROM=TO");
  diverge->add_option("--first", a.commands, "Carry out a command in both first (repeatable)")
      ->type_name("COMMAND");
  diverge
      ->add_option("--align", a.align,
                   "What is compared in its order: calls, 'writes OBJECT', serial, pins")
      ->type_name("WHAT")
      ->capture_default_str();
  diverge->add_option("--for", a.at_most, "How long at most, in simulated time")
      ->type_name("TIME")
      ->capture_default_str();
  diverge->add_option("--into", a.into, "Folder for the two moments, for lucid open --at")
      ->type_name("FOLDER")
      ->capture_default_str();
  add_output(diverge, a);
  diverge->footer(
      "Example: lucid diverge good.elf bad.elf --first 'feed USART0 \"G\\n\"'\n"
      "The exit code is 1 if they part.");

  CLI::App* plot = app.add_subcommand("plot", "Draw a file of signals");
  plot->add_option("file", a.image, "A value change dump (.vcd) or a table (.csv)")->required();
  plot->add_option("signals", a.name, "Which ones, with commas between; otherwise all");
  plot->add_option("--from", a.from, "Where it begins")->type_name("TIME");
  plot->add_option("--to", a.to, "Where it ends")->type_name("TIME");
  plot->add_option("--into", a.picture, "A .png, .svg or .html; otherwise it is drawn as text")
      ->type_name("FILE");
  plot->add_option("--size", a.size, "Of the picture: 1280x800")->type_name("WIDTHxHEIGHT");
  plot->add_flag("--dark", a.dark, "On a dark ground");
  add_output(plot, a);
  plot->footer("Example: lucid plot firing.vcd --from 1s --to 1100ms --into firing.png");

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
  CLI::App* documents = app.add_subcommand("documents", "The man page, and completion for a shell");
  documents->add_option("name", a.name, "man, bash or zsh")->required();
  documents->group("");  // for packages
}

constexpr const char* kAbout = "Lucid Loop: debug microcontroller firmware on a simulated chip";

}  // namespace

Result<ParsedArguments> parse_arguments(int argc, char** argv, Arguments& a) {
  CLI::App app{kAbout, "lucid"};
  declare(app, a);
  auto words = completed(argc, argv, app);
  std::reverse(words.begin(), words.end());
  ParsedArguments out;
  try {
    app.parse(std::move(words));
  } catch (const CLI::CallForHelp&) {
    const auto chosen = app.get_subcommands();
    out.text = (chosen.empty() ? &app : chosen.front())->help();
    return out;
  } catch (const CLI::CallForVersion& version) {
    out.text = std::string(version.what()) + "\n";
    return out;
  } catch (const CLI::ParseError& error) {
    a.json =
        std::any_of(argv, argv + argc, [](const std::string& word) { return word == "--json"; });
    return fail(in_our_words(error, app, argc > 1 ? argv[1] : ""));
  }
  out.command = app.get_subcommands().front()->get_name();
  return out;
}

std::vector<CommandFacts> command_facts() {
  Arguments unused;
  CLI::App app{kAbout, "lucid"};
  declare(app, unused);
  std::vector<CommandFacts> out;
  for (const CLI::App* command : app.get_subcommands(nullptr)) {
    if (command->get_group().empty()) continue;
    CommandFacts facts{
        command->get_name(), command->get_description(), command->get_footer(), {}, {}};
    for (const CLI::Option* option : command->get_options()) {
      if (option->get_positional())
        facts.takes.push_back(
            {option->get_name(), "", option->get_description(), option->get_required()});
      else
        facts.options.push_back(
            {option->get_name(false, true),
             option->get_items_expected_max() == 0 ? "" : option->get_type_name(),
             option->get_description(), false});
    }
    out.push_back(std::move(facts));
  }
  return out;
}

}  // namespace lucid::app
