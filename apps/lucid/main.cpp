// SPDX-License-Identifier: MIT
// The program `lucid`: its command line.
#include <fmt/format.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <chrono>
#include <cstdlib>
#include <iostream>
#include <thread>

#include "console.h"
#include "demo.h"
#include "prompt.h"

namespace lucid::app {
namespace {

struct Arguments {
  std::string image, script, chip, clock, bench, on, serial, span = "1s", name, function;
  std::vector<std::string> commands, sources;
  bool json = false;
  bool all = false;
  bool pace = false;
};

int report(const Error& error, bool json) {
  if (json)
    std::cout << error_to_json(error) << std::flush;
  else
    std::cerr << "lucid: " << error.text() << std::endl;
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
      error.where = "--do '" + command + "'" + (error.where.empty() ? "" : ", " + error.where);
      return fail(std::move(error));
    }
  }
  return {};
}

int failed(const Console& console, const Error& error) {
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
  if (a.commands.empty()) run_prompt(console);
  return kExitGood;
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
  return kExitGood;
}

/// In steps of a millisecond, none before its time by the clock on the wall.
Pause run_paced(Session& session, SerialEnd* end, Picoseconds span) {
  constexpr std::uint64_t kMillisecond = 1'000'000'000;
  const auto start = std::chrono::steady_clock::now();
  const std::uint64_t first = session.chip().cycles();
  const std::uint64_t first_time = session.chip().time().count;
  for (;;) {
    const std::uint64_t passed = session.chip().time().count - first_time;
    const auto due = start + std::chrono::nanoseconds(passed / 1000);
    std::this_thread::sleep_until(due);
    if (end != nullptr)
      if (const std::string typed = end->read(); !typed.empty())
        (void)session.send(end->port(), typed).has_value();
    const std::uint64_t left = span.count > passed ? span.count - passed : 0;
    Pause pause =
        session.go_for(Picoseconds{std::max<std::uint64_t>(std::min(left, kMillisecond), 1)});
    if (pause.cause != Pause::Cause::kTimeUp || left <= kMillisecond) {
      pause.cycles_since = session.chip().cycles() - first;
      pause.since = {session.chip().time().count - first_time};
      return pause;
    }
  }
}

int run_image(const Arguments& a, Console& console) {
  if (auto opened = console.open(a.image); !opened) return report(opened.error(), a.json);
  catch_interrupts(console);
  console.set_plain_serial(true);
  if (auto done = do_commands(console, a); !done) return failed(console, done.error());
  Session& session = *console.session();
  auto span = parse_time(a.span);
  if (!span) return report(span.error(), a.json);
  std::unique_ptr<SerialEnd> end;
  if (!a.serial.empty()) {
    if (const std::size_t equals = a.serial.find('='); equals != std::string::npos)
      if (auto known = session.send(a.serial.substr(0, equals), ""); !known)
        return report(known.error(), a.json);
    auto opened = SerialEnd::open(a.serial);
    if (!opened) return report(opened.error(), a.json);
    end = std::move(*opened);
    if (!end->is_paced())
      if (auto sent = session.send(end->port(), end->read()); !sent)
        return report(sent.error(), a.json);
    console.set_serial_end(end.get());
    if (end->is_paced()) std::cerr << end->port() << " is at " << end->path() << std::endl;
  }
  const bool paced = a.pace || (end != nullptr && end->is_paced());
  const Pause pause = paced ? run_paced(session, end.get(), *span) : session.go_for(*span);
  console.set_serial_end(nullptr);
  console.end_serial_line();
  Standing standing;
  standing.pause = pause;
  if (auto source = session.source("here", 1); source && source->problem.empty())
    standing.source = *source;
  console.show(standing);
  TimeView time = session.time();
  time.cycles_since = pause.cycles_since;  // of the run, however many pieces it had
  time.since = pause.since;
  console.show(time);
  console.show(session.stack(0));
  console.show(Pins{session.pins()});
  if (!session.chip().parts().empty()) console.show(Parts{session.chip().parts()});
  return pause.cause == Pause::Cause::kFault ? kExitFault : kExitGood;
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
  command->add_option("--do", a.commands, "Carry out a command (repeatable)")->type_name("COMMAND");
  command->add_flag("--json", a.json, "Write JSON, one object a line");
}

int main_with(int argc, char** argv) {
  Arguments a;
  CLI::App app{"Lucid Loop: debug microcontroller firmware on a simulated chip", "lucid"};
  app.require_subcommand(1);
  app.set_version_flag("--version", "lucid 0.1.0");
  app.footer(
      "Example: lucid open main.elf\nExit codes: 0 good, 1 an expectation failed, 2 usage, 3 not "
      "found,\n"
      "4 unusable image, 5 not supported, 6 out of range, 7 input/output, 8 firmware fault.");

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
  run->add_option(
         "--serial", a.serial,
         "What is at a serial port: USART0=pty, =tcp:PORT (both imply --pace), =file:IN,OUT")
      ->type_name("PORT=END");
  run->add_flag("--pace", a.pace, "No faster than real time");
  add_common(run, a);
  run->footer("Example: lucid run main.elf --for 2s --do 'drive PD2 low'");

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

  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& error) {
    return app.exit(error) == 0 ? kExitGood : kExitUsage;
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
  try {
    return lucid::app::main_with(argc, argv);
  } catch (const std::exception& error) {
    std::cerr << "lucid: " << error.what() << std::endl;
    return lucid::app::kExitIo;
  }
}
