// SPDX-License-Identifier: MIT
// The session on a machine unlike the AVR: 32-bit registers, a link register, one address space,
// interrupts of another kind, DWARF 5 by another compiler.
#include <catch2/catch.hpp>
#include <map>
#include <sstream>

#include "lucid/bench.h"
#include "lucid/session.h"
#include "machine/machine.h"
#include "strangers/strangers.h"
#include "tools.h"

using namespace lucid;

namespace {

constexpr const char* kPrograms = LUCID_TEST_SOURCES "/second_machine/programs/";
constexpr const char* kCompile =
    "riscv64-unknown-elf-gcc --specs=picolibc.specs --crt0=minimal -march=rv32im -mabi=ilp32 "
    "-gdwarf-5 -Wl,--defsym=__flash=0 -Wl,--defsym=__flash_size=0x40000 "
    "-Wl,--defsym=__ram=0x20000000 -Wl,--defsym=__ram_size=0x8000 "
    "-Wl,--defsym=__stack_size=0x1000 ";
const char* const kLevels[] = {"-O0", "-Og", "-O1", "-O2", "-O3", "-Os -msave-restore"};

std::string kiln32(const std::string& options) {
  const std::string path = test::own_file("kiln32" + options.substr(0, 3) + ".elf");
  const auto built = test::run(kCompile + options + " -o " + path + " " + kPrograms + "kiln32.c");
  INFO(built.text);
  REQUIRE(built.code == 0);
  return path;
}

Session opened(const std::string& path) {
  Session session(*Chip::make({"Second32", 8'000'000}));
  REQUIRE(session.open(path));
  return session;
}

/// `main on_timer!`: outermost first.
std::string callers(const Session& session) {
  std::string out;
  for (const CallLevel& level : session.callers())
    out += (out.empty() ? "" : " ") + level.where.function + (level.interrupt ? "!" : "");
  return out;
}

}  // namespace

TEST_CASE("the instructions of another family are those of its disassembler") {
  const std::string path = kiln32("-O2");
  const auto listing =
      test::run("riscv64-unknown-elf-objdump -d -M no-aliases --no-show-raw-insn " + path);
  REQUIRE(listing.code == 0);
  const Session session = opened(path);
  std::istringstream lines(listing.text);
  unsigned compared = 0;
  for (std::string line; std::getline(lines, line);) {
    std::istringstream words(line);
    std::string address, mnemonic, operands;
    words >> address >> mnemonic >> operands;
    if (address.empty() || mnemonic.empty() ||
        address.find_first_not_of("0123456789abcdef") != address.size() - 1 ||
        address.back() != ':')
      continue;
    const auto at = static_cast<std::uint32_t>(std::stoul(address, nullptr, 16));
    const Instruction mine = session.chip().instruction_at(at);
    INFO(line << " | " << mine.mnemonic << " " << mine.operands);
    if (mnemonic.front() == '.') continue;  // constants between functions
    REQUIRE(mine.validity == Validity::kValid);
    std::string own;
    for (const char c : mine.operands)
      if (c != ' ') own += c;
    // Control registers have names there, and places follow a number.
    const bool control = mine.mnemonic.rfind("csr", 0) == 0 || mine.mnemonic == "fence";
    if (mine.target) {
      CHECK(own.substr(own.rfind(',') + 1) == "0x" + operands.substr(operands.rfind(',') + 1));
    } else if (!control) {
      CHECK(own == operands);
    }
    CHECK(mine.mnemonic == mnemonic);
    ++compared;
  }
  CHECK(compared > 700);
}

TEST_CASE("interrupts, callers, steps and values on another family, at all levels") {
  for (const char* level : kLevels) {
    INFO(level);
    Session session = opened(kiln32(level));
    REQUIRE(session.pause_at({"on_timer", BreakpointSpec::Rule::kOn, 3, ""}));
    CHECK(session.go_for(8'000'000).cause == Pause::Cause::kBreakpoint);
    CHECK(callers(session) == "main on_timer!");
    CHECK(session.evaluate("ticks")->integer == 2);
    CHECK(session.step(StepKind::kOut, StepUnit::kLine)->where.function == "main");
    session.all_breakpoints(false);

    // A command over the serial port; each call of a recursion.
    REQUIRE(session.feed("SERIAL", "S"));
    REQUIRE(session.pause_at({"on_serial", BreakpointSpec::Rule::kOn, 1, ""}));
    session.all_breakpoints(true);
    while (session.go_for(8'000'000).where.function == "on_timer") {
    }
    const std::string chain = callers(session);
    CHECK(chain.substr(0, 4) == "main");
    CHECK(chain.substr(chain.rfind(' ')) == " on_serial!");
    session.all_breakpoints(false);
    const Result<Pause> summing = session.go_to("sum_to");
    if (std::string(level) <= "-O1" || std::string(level) == "-Og") {  // elsewhere it is a loop
      REQUIRE(summing);
      for (int n = 5; n > 1; --n) {
        CHECK(session.evaluate("n")->integer == n);
        REQUIRE(session.go_to("sum_to"));
      }
      CHECK(callers(session) == "main sum_to sum_to sum_to sum_to sum_to");
      const auto out = session.step(StepKind::kOut, StepUnit::kLine);
      REQUIRE(out);
      REQUIRE_FALSE(out->returned.empty());
      CHECK(out->returned[0].value == "1");
    }
    REQUIRE(session.go_to("kiln32.c:104"));
    CHECK(session.evaluate("ramp.held")->integer == 15);
    CHECK(session.evaluate("state == HEATING")->integer == 1);
    CHECK(session.evaluate("ramp.target")->integer == 200);
    CHECK(session.evaluate("ramp.name")->text.find("\"slow\"") != std::string::npos);
    CHECK(session.evaluate("sizeof(struct ramp)")->integer == 24);
  }
}

TEST_CASE("the past of another family: any moment, steps back, origins, a past as text") {
  for (const char* level : {"-O0", "-Og", "-O2"}) {
    if (test::kSanitized && std::string(level) != "-Og") continue;  // a minute each there
    INFO(level);
    Session session = opened(kiln32(level));
    session.set_timeline_bound(400'000);
    REQUIRE(session.go_to("main"));
    struct Stand {
      std::uint64_t cycles, hash;
    };
    std::vector<Stand> stands;
    const auto stand = [&] { stands.push_back({session.chip().cycles(), session.chip().hash()}); };
    for (unsigned i = 0; i < 40; ++i) {
      if (i == 15) REQUIRE(session.feed("SERIAL", "S"));
      if (i == 25) REQUIRE(session.let("ramp.rate", "7"));
      session.go_for(1 + i * 977 % 4'000);
      stand();
    }
    // Steps that begin at lines, undone one by one.
    REQUIRE(session.step(StepKind::kInto, StepUnit::kLine));
    const std::size_t first = stands.size();
    for (unsigned i = 0; i < 25; ++i) {
      stand();
      REQUIRE(session.step(StepKind::kInto, StepUnit::kInstruction));
    }
    for (std::size_t i = stands.size(); i-- > first;) {
      REQUIRE(session.step_back(StepKind::kInto, StepUnit::kInstruction));
      CHECK(session.chip().cycles() == stands[i].cycles);
      CHECK(session.chip().hash() == stands[i].hash);
    }
    for (const std::size_t i : {31U, 3U, 17U, 26U, 8U, 39U, 14U}) {
      REQUIRE(session.go_to_time(to_time(stands[i].cycles, 8'000'000)));
      CHECK(session.chip().hash() == stands[i].hash);
    }
    session.go_for(400'000);
    const std::uint64_t end = session.chip().cycles();
    const auto rows = session.history("history[0]", 3);
    REQUIRE(rows);
    REQUIRE(rows->size() == 3);
    CHECK((*rows)[2].access.by.function == "control_step");
    const auto origin = session.origin("history[0]", 2);
    REQUIRE(origin);
    REQUIRE_FALSE(origin->nodes.empty());
    CHECK(origin->nodes[0].how == OriginNode::How::kWorked);
    CHECK(session.origin("ramp.rate")->nodes.at(0).how == OriginNode::How::kEdit);
    CHECK(session.origin("ticks")->nodes.at(0).where.function == "on_timer");
    const auto missed = session.missed("on_pins");
    REQUIRE(missed);
    CHECK_FALSE(missed->executed_at);
    CHECK(missed->not_called.at(0).function == "on_pins");
    CHECK(session.missed("control_step")->executed_at);
    CHECK(session.chip().cycles() == end);
    const std::string text = session.timeline_text();
    Session other = opened(kiln32(level));
    const auto there = other.follow_timeline(text);
    INFO(text);
    REQUIRE(there);
    CHECK(other.chip().hash() == session.chip().hash());
  }
}

TEST_CASE("arguments of all widths, and each level's own values") {
  for (const char* level : {"-O0", "-Og", "-O2"}) {
    INFO(level);
    Session session = opened(kiln32(level));
    REQUIRE(session.go_to("mixed"));
    CHECK(session.evaluate("a")->integer == 3);
    CHECK(session.evaluate("b")->integer == 500);
    CHECK(session.evaluate("c")->integer == -7);
    CHECK(session.evaluate("d == ramp.energy")->integer == 1);
    const auto levels = session.callers();
    REQUIRE(levels.size() == 2);
    REQUIRE(session.select_level(1));
    const auto now = session.evaluate("now");
    if (now) CHECK(now->integer == session.evaluate("level / 1.5")->real);
    REQUIRE(session.let("ramp.rate", "5"));
    REQUIRE(session.let("ramp.target", "-3"));
    CHECK(session.evaluate("ramp.target")->integer == -3);
    CHECK(session.evaluate("ramp.rate")->integer == 5);
  }
}

TEST_CASE("data breakpoints, conditions, events and faults on another family") {
  Session session = opened(kiln32("-Og"));
  BreakpointSpec write;
  write.place = "ramp.held";
  write.kind = BreakpointSpec::Kind::kWrite;
  REQUIRE(session.go_to("main"));
  REQUIRE(session.pause_at(write));
  REQUIRE(session.feed("SERIAL", "S"));
  const Pause stored = session.go();
  REQUIRE(stored.data);
  CHECK(stored.data->after == "15");
  CHECK(stored.data->by.function == "main");
  CHECK(stored.data->instruction.find("sb") == 0);
  session.all_breakpoints(false);

  Session other = opened(kiln32("-Og"));
  REQUIRE(other.pause_at({"control_step", BreakpointSpec::Rule::kOn, 2, "r->target - now < 60"}));
  const Pause met = other.go();
  CHECK(met.passes == 2);
  CHECK(other.evaluate("now >= 140")->integer == 1);
  REQUIRE(other.go_until("chip.PIN_OUT == 0"));
  CHECK(other.evaluate("chip.PIN_DIRECTION")->integer == 2);
  CHECK(other.evaluate("pin.IO1")->integer == 0);
  BreakpointSpec edge;
  edge.place = "PINS";
  edge.kind = BreakpointSpec::Kind::kReturn;
  other.all_breakpoints(false);
  REQUIRE(other.let("state", "HOLDING"));
  other.all_breakpoints(true);
  REQUIRE(other.remove(1));
  REQUIRE(other.pause_at(edge));
  REQUIRE(other.drive("IO0", true));
  CHECK(other.go_for(8'000'000).cause == Pause::Cause::kEvent);
  CHECK(other.evaluate("state == IDLE")->integer == 1);
  REQUIRE(other.move_to("0x3fff0"));
  const Pause fault = other.go();
  CHECK(fault.cause == Pause::Cause::kFault);
}

TEST_CASE("the world of another family is the same in pieces, through copies and looks") {
  const auto image = Image::open(kiln32("-O2"));
  REQUIRE(image);
  Chip whole = *Chip::make({"Second32", 8'000'000});
  REQUIRE(whole.load(*image));
  Chip pieces = whole;
  whole.run_for(200'000);
  for (std::uint64_t n = 1; pieces.cycles() < whole.cycles(); n = n * 7 % 1009) {
    pieces.run_for(std::min<std::uint64_t>(n, whole.cycles() - pieces.cycles()));
    const Chip copy = pieces;
    static_cast<void>(copy.pins());
    pieces = Chip(copy);
  }
  CHECK(pieces.hash() == whole.hash());
  CHECK(whole.take_serial_output() == "kiln ready\n");
}

namespace {

std::vector<test::Build> builds() {
  std::vector<test::Build> out;
  for (const char* level : kLevels)
    out.push_back({level,
                   std::string(kCompile) + "-std=gnu99 -fgnu89-inline -w " + level + " " +
                       kPrograms + "ends.c",
                   "Second32"});
  return out;
}

}  // namespace

TEST_CASE("programs that nobody here wrote end well on another family") {
  unsigned good = 0;
  for (const std::string& source : test::sample(test::kSanitized ? 2 : 25))
    for (const test::Build& build : builds()) {
      const auto path = test::image_of(source, build);
      if (!path) continue;
      INFO(source << " " << build.name);
      Chip chip = *Chip::make({"Second32", 8'000'000});
      const auto image = Image::open(*path);
      REQUIRE(image);
      REQUIRE(chip.load(*image));
      const auto mains = Program::read(*image).find_functions("main");
      REQUIRE(mains.size() == 1);
      RunEnd end;
      for (unsigned i = 0; i < 400 && end.why == RunEnd::Why::kTimeUp; ++i) {
        end = chip.run_for(200'000);
        if (chip.instruction_at(chip.pc()).target == chip.pc()) break;  // behind main
      }
      std::uint32_t exit_code = 0;  // if main has returned
      for (const Symbol& symbol : image->symbols())
        if (symbol.name == "exit_code" && end.why == RunEnd::Why::kBreakInstruction)
          exit_code = chip.peek(symbol.address).value_or(1);
      CHECK(end.why != RunEnd::Why::kFault);
      CHECK(exit_code == 0);
      ++good;
    }
  CHECK(good > (test::kSanitized ? 0 : 100));
}

TEST_CASE("their callers are those of a shadow stack") {
  test::judge_callers(test::sample(test::kSanitized ? 1 : 12), builds());
}

TEST_CASE("chips of two families on wires, either one beside the other") {
  // The AVR answers each edge of the kiln's lamp on a pin of its own.
  const std::string avr = test::own_file("answer.elf");
  test::write(test::own_file("answer.c"),
              "#include <avr/io.h>\nvolatile unsigned edges;\nint main(void) {\n"
              "  DDRB = 1;\n  unsigned char was = 0;\n  for (;;) {\n"
              "    unsigned char now = PIND & 4;\n    if (now != was) edges++;\n"
              "    was = now;\n    PORTB = now ? 0 : 1;\n  }\n}\n");
  REQUIRE(test::run("avr-gcc -O1 -gdwarf-4 -mmcu=atmega328p -o " + avr + " " +
                    test::own_file("answer.c"))
              .code == 0);
  const std::string kiln = kiln32("-Og");
  const auto pair = [&](bool avr_first, std::uint64_t ahead) {
    Chip::Options avr_options{"ATmega328P", 16'000'000};
    Chip::Options second{"Second32", 8'000'000};
    Chip::Options first = avr_first ? avr_options : second;
    first.companions = {
        {"other", avr_first ? second : avr_options, *Image::open(avr_first ? kiln : avr)}};
    first.wires =
        avr_first
            ? std::vector<std::vector<std::string>>{{"PD2", "other.IO1"}, {"PB0", "other.IO0"}}
            : std::vector<std::vector<std::string>>{{"IO1", "other.PD2"}, {"IO0", "other.PB0"}};
    first.companions_ahead = {ahead};
    auto chip = Chip::make(first);
    INFO((chip ? "" : chip.error().text()));
    REQUIRE(chip);
    REQUIRE(chip->load(*Image::open(avr_first ? avr : kiln)));
    return std::move(*chip);
  };
  for (const bool avr_first : {true, false}) {
    INFO(avr_first);
    Chip straight = pair(avr_first, 0);
    straight.run_for(Picoseconds{20'000'000'000});
    const Chip half = straight;
    straight.run_for(Picoseconds{20'000'000'000});
    const std::uint64_t once = straight.hash();
    const std::uint64_t cycles = straight.cycles();
    straight = half;
    straight.run_for(cycles - straight.cycles());
    CHECK(straight.hash() == once);
    Chip pieces = pair(avr_first, 3'000'000);
    for (std::uint64_t n = 1; pieces.cycles() < straight.cycles(); n = n * 7 % 4099) {
      pieces.run_for(std::min(n, straight.cycles() - pieces.cycles()));
      if (n % 50 == 0) static_cast<void>(pieces.companion("other")->pins());
      pieces = Chip(pieces);
    }
    CHECK(pieces.hash() == straight.hash());
    Session session(pair(avr_first, 0)), swapped(pair(!avr_first, 0));
    REQUIRE(session.open(avr_first ? avr : kiln));
    // What is heard of the other is what it tells itself.
    REQUIRE(swapped.open(avr_first ? kiln : avr));
    const std::vector<std::string> of_other =
        avr_first ? std::vector<std::string>{"pin.IO0", "ticks", "interrupt", "history[1]"}
                  : std::vector<std::string>{"pin.PB0", "edges", "pin.PD2"};
    for (const std::string& signal : of_other) {
      REQUIRE(session.trace({"other." + signal}));
      REQUIRE(swapped.trace({signal}));
    }
    session.go_for(Picoseconds{7'000'000'000});
    session.go_for(Picoseconds{23'000'000'000});
    swapped.go_for(Picoseconds{30'100'000'000});
    for (const std::string& signal : of_other) {
      INFO(signal);
      const Signal heard = *session.signal("other." + signal), truth = *swapped.signal(signal);
      auto a = heard.samples(0, heard.end()), b = truth.samples(0, heard.end());
      for (;;) {
        const auto x = a.next(), y = b.next();
        REQUIRE(x.has_value() == y.has_value());
        if (!x) break;
        REQUIRE((x->tick == y->tick && x->value == y->value && x->state == y->state));
      }
      CHECK(heard.changes() > 1);
    }
    REQUIRE(session.back_to_time(Picoseconds{0}));
    if (avr_first) {
      REQUIRE(session.go_until("edges == 2"));  // the lamp on, then off above 100 C
      CHECK(session.evaluate("other.PIN_OUT")->integer == 0);
    } else {
      REQUIRE(session.go_until("history[0] > 100"));
      session.go_for(Picoseconds{1'000'000'000});
      CHECK(session.evaluate("pin.IO0")->integer == 1);
      CHECK(session.evaluate("other.PORTB")->integer == 1);
    }
    const auto parts = session.chip().parts();
    REQUIRE(parts.size() == 1);
    CHECK(parts[0].name == "other");
  }
}

namespace {

struct Heard final : machine::RecordSink {
  std::vector<machine::Record> all;
  void take(const machine::Record* records, std::size_t count) override {
    all.insert(all.end(), records, records + count);
  }
  [[nodiscard]] std::vector<machine::Record> of(machine::EventKind kind) const {
    std::vector<machine::Record> out;
    for (const machine::Record& r : all)
      if (r.kind == kind) out.push_back(r);
    return out;
  }
};

}  // namespace

TEST_CASE("signals of another family are traced, too") {
  Session session(*Chip::make({"Second32", 8'000'000}));
  REQUIRE(session.open(kiln32("-O2")));
  for (const char* signal : {"pin.IO0", "ticks", "interrupt", "byte out"}) {
    INFO(signal);
    const auto traced = session.trace({signal});
    if (!traced) FAIL(traced.error().text());
  }
  session.go_for(Picoseconds{300'000'000'000});
  const Signal ticks = *session.signal("ticks");
  CHECK(ticks.changes() > 100);
  CHECK(ticks.at(ticks.end()).value ==
        static_cast<std::uint64_t>(session.evaluate("ticks")->integer));
  CHECK(session.signal("interrupt")->changes() >= 2 * (ticks.changes() - 2));
  const Signal pin = *session.signal("pin.IO0");
  for (const PinView& view : session.pins())
    if (view.pin.name == "IO0") CHECK((pin.at(pin.end()).value != 0) == view.pin.level);
  // Afterwards, it is the same.
  std::vector<std::uint64_t> changes;
  for (const auto& view : session.traces()) changes.push_back(view.changes);
  for (const char* signal : {"pin.IO0", "ticks", "interrupt", "byte out"}) {
    REQUIRE(session.untrace(signal));
    REQUIRE(session.trace({signal, "", "", true}));
  }
  for (std::size_t i = 0; i < changes.size(); ++i) CHECK(session.traces()[i].changes == changes[i]);
}

TEST_CASE("who listens hears all that happens, in both families, and changes nothing") {
  using machine::EventKind;
  for (const bool avr : {true, false}) {
    INFO(avr);
    const std::string path = avr ? std::string(LUCID_KILN "/images/kiln-og.elf") : kiln32("-O2");
    const auto made = [&] {
      Chip chip = *Chip::make({avr ? "ATmega328P" : "Second32", 8'000'000});
      REQUIRE(chip.load(*Image::open(path)));
      return chip;
    };
    Chip free = made();
    Heard heard;
    REQUIRE(free.machine().listen(~0U, &heard));
    Address watched;
    const auto image = Image::open(path);
    REQUIRE(image);
    for (const Symbol& symbol : image->symbols())
      if (symbol.name == "ticks") watched = symbol.address;
    REQUIRE(watched.space == Space::kData);
    REQUIRE(free.machine().watch(watched, machine::kTapRead | machine::kTapWrite));
    Chip copy = free;  // is not listened to
    copy.run_for(100'000);
    CHECK(heard.all.empty());
    for (unsigned i = 0; i < 200; ++i) free.run_for(100'000);

    // The same, looked at from outside: interrupts as events, pins behind each instruction.
    Chip stopped = made();
    machine::RunRequest request;
    request.until_cycles = free.cycles();
    request.events = machine::bit(EventKind::kInterrupt);
    request.pass_first_breakpoint = true;
    std::vector<std::pair<std::uint64_t, unsigned>> entered;
    for (machine::Stop stop; stopped.cycles() < free.cycles();) {
      stop = stopped.machine().run(request);
      for (const machine::Event& event : stop.events)
        entered.emplace_back(stopped.machine().ticks(), event.number);
    }
    CHECK(stopped.hash() == free.hash());
    const auto interrupts = heard.of(EventKind::kInterrupt);
    REQUIRE(interrupts.size() == entered.size());
    CHECK(entered.size() > 100);
    for (std::size_t i = 0; i < entered.size(); ++i) {
      CHECK(interrupts[i].tick == entered[i].first);
      CHECK(interrupts[i].number == entered[i].second);
    }
    CHECK(heard.of(EventKind::kReturn).size() + 1 >= entered.size());
    std::string bytes;
    for (const machine::Record& r : heard.of(EventKind::kByteOut))
      bytes += static_cast<char>(r.value);
    CHECK(bytes == free.take_serial_output());
    CHECK(bytes.find("kiln ready") == 0);
    CHECK(heard.of(EventKind::kSleep).size() > 10);

    // A byte that is watched: each access of a run that each of them ends.
    Chip watching = made();
    REQUIRE(watching.machine().watch(watched, machine::kOnRead | machine::kOnWrite));
    std::vector<std::pair<bool, unsigned>> accesses;
    request.events = 0;
    while (watching.cycles() < free.cycles())
      for (const machine::Access& access : watching.machine().run(request).accesses)
        accesses.emplace_back(access.write, access.after);
    std::vector<std::pair<bool, unsigned>> told;
    for (const machine::Record& r : heard.all)
      if (r.kind == EventKind::kRead || r.kind == EventKind::kWrite) {
        CHECK(r.number == watched.offset);
        told.emplace_back(r.kind == EventKind::kWrite, r.value);
      }
    CHECK(told == accesses);
    CHECK(told.size() > 1000);

    Chip polled = made();
    auto before = polled.pins();
    std::vector<std::pair<std::uint64_t, bool>> moved;
    while (polled.cycles() < 60'000) {
      polled.step();
      auto now = polled.pins();
      for (std::size_t p = 0; p < now.size(); ++p)
        if (now[p].level != before[p].level)
          moved.emplace_back(polled.machine().ticks(), now[p].level);
      before = std::move(now);
    }
    const auto edges = heard.of(EventKind::kEdge);
    REQUIRE(edges.size() >= moved.size());
    CHECK_FALSE(moved.empty());
    for (std::size_t i = 0; i < moved.size(); ++i) {
      CHECK(edges[i].value == (moved[i].second ? 1U : 0U));
      CHECK(edges[i].tick <= moved[i].first);
      CHECK(moved[i].first - edges[i].tick <= 40);
    }
    std::uint64_t latest = 0;  // but for moments that are found out when somebody looks
    for (const machine::Record& r : heard.all)
      if (r.kind != EventKind::kMoment) {
        if (r.tick + 64 < latest) FAIL_CHECK(r.tick);
        latest = r.tick;
      }
  }
}

TEST_CASE("parts of a bench file stand on the pins of another family") {
  test::write(test::own_file("desk"), "await \"kiln ready\" within 2s\nsay \"S\"\n");
  const auto bench = Bench::parse(
      "[chip]\nname = \"Second32\"\nclock = \"8MHz\"\n"
      "[[part]]\nname = \"stop\"\nkind = \"button\"\npin = \"IO0\"\nclosed = \"high\"\n"
      "[[part]]\nname = \"lamp\"\nkind = \"lamp\"\npin = \"IO1\"\n"
      "[[part]]\nname = \"desk\"\nkind = \"terminal\"\nport = \"SERIAL\"\n"
      "script = \"" +
          test::own_file("desk") +
          "\"\n"
          "[[input]]\nat = \"500ms\"\npart = \"stop\"\naction = \"press\"\n",
      "second.bench.toml");
  INFO((bench ? "" : bench.error().text()));
  REQUIRE(bench);
  auto chip = Chip::make(bench->chip);
  INFO((chip ? "" : chip.error().text()));
  REQUIRE(chip);
  Session session(std::move(*chip));
  REQUIRE(session.open(kiln32("-Og")));
  REQUIRE(session.go_until("state == HEATING"));  // the desk has read and written
  CHECK(session.time().time.count < 100'000'000'000);
  CHECK(session.evaluate("state == HEATING")->integer == 1);
  BreakpointSpec edge;
  edge.kind = BreakpointSpec::Kind::kEdge;
  edge.place = "IO0 rising";
  REQUIRE(session.pause_at(edge));
  CHECK(session.go().cause == Pause::Cause::kEvent);
  CHECK(session.time().time.count / 1'000'000'000 == 500);
  REQUIRE(session.go_until("state == IDLE"));
  std::string states;
  for (const PartState& part : session.chip().parts())
    states += part.name + ": " + part.state + "; ";
  INFO(states);
  CHECK(states.find("stop: pressed") != std::string::npos);
  CHECK(states.find("lamp: ") != std::string::npos);
  REQUIRE(session.act("stop", "release"));
  CHECK(session.evaluate("pin.IO0")->integer == 0);
}
