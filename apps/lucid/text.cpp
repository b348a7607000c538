// SPDX-License-Identifier: MIT
// Replies as text for people, made for 80 columns.
#include <fmt/format.h>

#include <algorithm>
#include <cctype>

#include "breakpoint_text.h"
#include "lucid/bench.h"
#include "output.h"
#include "text.h"
#include "text_back.h"
#include "text_signals.h"
#include "text_survey.h"

namespace lucid::app {
namespace {

std::string thousands(std::uint64_t value) {
  std::string digits = std::to_string(value);
  for (std::size_t i = digits.size(); i > 3; i -= 3) digits.insert(i - 3, "'");
  return digits;
}
std::string ids(const std::vector<unsigned>& list) {
  std::string out;
  for (const unsigned id : list) out += (out.empty() ? "" : ",") + std::to_string(id);
  return out.empty() ? out : "(" + out + ")";
}
class TextViews : public BackViews, public SignalViews, public SurveyViews {
 public:
  explicit TextViews(const Style& style)
      : BackViews(style), SignalViews(style), SurveyViews(style), style_(style) {}
  using BackViews::operator();
  using SignalViews::operator();
  using SurveyViews::operator();

  std::string operator()(const Message& m) const { return m.text + "\n"; }
  std::string operator()(const Logged& l) const { return "  log: " + l.text + "\n"; }
  std::string operator()(const Remark& r) const { return style_.accent("── " + r.text) + "\n"; }
  std::string operator()(const Warning& w) const {
    return style_.warn(style_.wrapped("note: " + w.text, 6)) + "\n";
  }

  std::string operator()(const Standing& s) const {
    std::string out = headline(s.pause);
    for (const Pause::Returned& r : s.pause.returned)
      out += fmt::format("  {} returned {}\n", r.function, r.value);
    if (s.pause.returned.size() >= 4) out += style_.dim("  what came later is not told") + "\n";
    for (const std::string& remark : s.pause.remarks) out += style_.dim("  " + remark) + "\n";
    out += s.disassembly.rows.empty() ? (*this)(s.source) : (*this)(s.disassembly);
    if (!s.changed.empty()) out += changed_line(s.changed);
    for (const WatchView& v : s.watches) out += watch_line(v) + "\n";
    return out;
  }

  std::string operator()(const Evaluated& e) const {
    const std::string type = e.value.type.empty() ? "" : style_.dim("   " + e.value.type);
    const std::string plain = e.expression + " = " + e.value.text;
    const std::string which = e.value.which.empty() ? "" : style_.dim("   " + e.value.which);
    if (!e.value.fields.empty())
      return e.expression + " = " + style_.bold(e.value.text) + type + which + "\n" +
             fields_text(e.value.fields, 2) + "\n";
    if (style_.columns(plain) > style_.width())
      return style_.wrapped(plain, 4) + type + which + "\n";
    return e.expression + " = " + style_.bold(e.value.text) + type + which + "\n";
  }

  std::string operator()(const SourceView& v) const {
    if (!v.problem.empty()) return style_.dim(v.problem) + "\n";
    std::string out;
    for (const SourceView::Line& line : v.lines) {
      std::string text = visible(line.text, false, true);
      for (std::size_t tab = text.find('\t'); tab != std::string::npos; tab = text.find('\t'))
        text.replace(tab, 1, 8 - tab % 8, ' ');
      text = style_.clipped(text, style_.width() - 14);
      out += fmt::format("{:>5} {:>4} {}{} {}\n", ids(line.breakpoints), line.number,
                         line.never_run  ? style_.bad("○")
                         : line.has_code ? "·"
                                         : " ",
                         line.current    ? style_.accent("▌")
                         : line.selected ? style_.accent("│")
                                         : " ",
                         line.current || line.selected ? style_.bold(text) : text);
      std::string values;
      for (const std::string& value : line.values) values += (values.empty() ? "" : "   ") + value;
      if (!values.empty())
        out +=
            style_.dim(fmt::format("{:>13} {}", "", style_.clipped(values, style_.width() - 14))) +
            "\n";
    }
    return out;
  }

  std::string operator()(const DisassemblyView& v) const {
    std::string out;
    std::string last_line;
    for (const DisassemblyView::Row& row : v.rows) {
      if (!row.function.empty())
        out += fmt::format("{:>12} {}\n", "",
                           row.offset == 0
                               ? style_.bold(row.function)
                               : style_.dim(fmt::format("in {}, byte {} of {}", row.function,
                                                        row.offset, row.function_bytes)));
      const std::string at_line = row.line == 0 ? "" : fmt::format("{}:{}", row.file, row.line);
      if (!row.source.empty())
        out += style_.dim(style_.clipped(
                   fmt::format("{:>12} {}  {}", "", at_line, visible(row.source, false, true)),
                   style_.width())) +
               "\n";
      std::string words;
      for (std::size_t i = 0; i + 1 < row.instruction.bytes.size(); i += 2)
        words += fmt::format("{}{:02x}{:02x}", i == 0 ? "" : " ", row.instruction.bytes[i + 1],
                             row.instruction.bytes[i]);
      std::string text =
          fmt::format("{:<6} {}", row.instruction.mnemonic, row.instruction.operands);
      std::string remark = row.target;
      std::string count;
      if (row.executed)
        count = fmt::format("{:>12} ", *row.executed == 0 ? "never" : grouped(*row.executed));
      if (row.taken && row.executed.value_or(0) != 0)
        remark += fmt::format("{}taken {}", remark.empty() ? "" : ", ", grouped(*row.taken));
      if (row.source.empty() && !at_line.empty() && at_line != last_line)
        remark += (remark.empty() ? "" : "  ") + at_line;
      if (!at_line.empty()) last_line = at_line;
      std::string line =
          fmt::format("{:>5} {}{:06x} {} ", ids(row.breakpoints), count, row.instruction.address,
                      row.current    ? style_.accent("▌")
                      : row.selected ? style_.accent("│")
                                     : " ");
      line += style_.dim(fmt::format("{:<9}", words)) + "  " +
              (row.current ? style_.bold(style_.padded(text, 26)) : style_.padded(text, 26)) + " " +
              style_.dim(remark);
      while (!line.empty() && line.back() == ' ') line.pop_back();
      out += line + "\n";
    }
    return out;
  }

  std::string operator()(const Registers& r) const {
    std::string out;
    std::string changes;
    unsigned changed = 0;
    unsigned column = 0;
    for (const RegisterView& reg : r.registers) {
      if (reg.bits == 8 && reg.name[0] == 'r') {
        const std::string cell = reg.known ? fmt::format("{:>4} {:02x}", reg.name, reg.value)
                                           : style_.dim(fmt::format("{:>4} --", reg.name));
        out += (reg.changed() ? style_.changed(cell) : cell) + (reg.changed() ? "*" : " ");
        if (++column % 8 == 0) out += "\n";
      }
      if (reg.changed() && reg.name != "pc" && ++changed <= 6)
        changes += fmt::format("{}{} {:#0{}x} → {:#0{}x}", changes.empty() ? "" : ", ", reg.name,
                               reg.before, reg.bits / 4 + 2, reg.value, reg.bits / 4 + 2);
    }
    if (column % 8 != 0) out += "\n";
    std::string wide;
    for (const RegisterView& reg : r.registers)
      if (reg.known && (reg.bits != 8 || reg.name[0] != 'r'))
        wide += fmt::format("{}{} {:0{}x}", wide.empty() ? "  " : "   ", reg.name, reg.value,
                            reg.bits / 4);
    out += wide + "\n";
    std::string flags = "  flags";
    for (const FlagView& f : r.flags) {
      const std::string cell = fmt::format(" {}={}", f.letter, f.value ? 1 : 0);
      flags += f.value != f.before ? style_.changed(cell) + "*" : cell;
    }
    if (!r.flags.empty()) out += flags + "\n";
    if (!changes.empty())
      out +=
          style_.dim("  changed (*): ") +
          style_.wrapped(changes + (changed > 6 ? fmt::format(", {} more", changed - 6) : ""), 15) +
          "\n";
    return out;
  }

  std::string operator()(const MemoryView& v) const {
    std::string out;
    bool any = false;
    for (const MemoryView::Row& row : v.rows) {
      if (!row.names.empty())
        out += style_.accent(std::string(9, ' ') + style_.wrapped(row.names, 9)) + "\n";
      std::string line = fmt::format(" {:#06x} ", row.address);
      std::string text;
      for (std::size_t i = 0; i < row.bytes.size(); ++i) {
        const std::uint8_t byte = row.bytes[i];
        const std::string cell = fmt::format("{:02x}", byte);
        line += row.changed[i] ? "*" + style_.changed(cell) : " " + cell;
        any = any || row.changed[i];
        text += byte >= 0x20 && byte < 0x7f ? static_cast<char>(byte) : '.';
      }
      out += line + std::string(3 * (16 - row.bytes.size()), ' ') + "  " + style_.dim(text) + "\n";
    }
    if (any) out += style_.dim("         * changed since the last pause") + "\n";
    return out;
  }

  std::string operator()(const StackView& v) const {
    std::string out =
        fmt::format(" sp {:#06x}: {} byte{} in use", v.sp, v.used, v.used == 1 ? "" : "s");
    if (v.deepest) out += fmt::format(", {} at the deepest", *v.deepest);
    if (v.free) out += fmt::format(", {} free above static data", *v.free);
    out += "\n";
    std::string chain;
    for (const std::string& name : v.deepest_chain) chain += (chain.empty() ? "" : " → ") + name;
    if (v.deepest && *v.deepest > v.used && !chain.empty())
      out += style_.dim(" deepest in ") + style_.wrapped(chain, 12) + "\n";
    for (const StackView::Slot& slot : v.slots) {
      std::string bytes;
      for (const std::uint8_t byte : slot.bytes) bytes += fmt::format("{:02x} ", byte);
      out += style_.clipped(fmt::format(" {:#06x}  {:<25}{}", slot.address, bytes, slot.meaning),
                            style_.width()) +
             "\n";
    }
    return out;
  }

  std::string operator()(const Found& f) const {
    if (f.items.empty()) return "no name contains '" + f.text + "'\n";
    std::string out;
    for (const Found::Item& item : f.items) {
      std::string line = fmt::format("  {:<10} {:<24}", item.kind, item.name);
      if (item.address) line += fmt::format(" {:#06x}", *item.address);
      if (!item.detail.empty()) line += "  " + item.detail;
      out += line + "\n";
    }
    return out;
  }

  std::string operator()(const OpenedLine& o) const {
    std::string out;
    for (std::size_t i = 0; i < o.levels.size(); ++i)
      out += fmt::format("{:>4}  {}\n", i == 0 ? "line" : std::to_string(i), o.levels[i]);
    if (o.levels.size() == 1) out += "      there are no macros in it\n";
    return out;
  }

  std::string operator()(const Inputs& i) const {
    std::string out;
    for (const Input& input : i.list) out += (out.empty() ? "" : "\n") + Bench::table(input);
    return out.empty() ? "nothing has come from outside yet\n" : out;
  }

  std::string operator()(const GraphView& g) const {
    std::string out;
    for (std::size_t i = 0; i < g.nodes.size(); ++i) {
      std::string line = fmt::format("{:>4}  {:#06x}  {:<12} {{{}}}", i + 1,
                                     g.nodes[i].address.offset, g.nodes[i].name, g.nodes[i].value);
      for (const GraphView::Edge& e : g.edges) {
        if (e.from != i) continue;
        line += "  " + e.member + " → ";
        line += e.to ? std::to_string(*e.to + 1) : style_.bad(e.text);
      }
      out += line + "\n";
    }
    if (g.circle) out += style_.warn("      it leads back to itself") + "\n";
    if (g.cut) out += style_.dim("      there are more") + "\n";
    return out;
  }

  std::string operator()(const Callers& c) const {
    std::string out;
    for (const CallLevel& level : c.levels) {
      const bool selected = level.level == c.selected;
      const bool current = level.level == c.current;
      std::string line =
          fmt::format("{:>4} {} {}", level.level,
                      selected && !current ? style_.accent("│")
                      : current            ? style_.accent("▌")
                                           : " ",
                      place(level.where) + (level.where.file.empty() ? "" : level.signature));
      if (level.inlined) line += style_.dim("  (inlined)");
      if (level.left) line += style_.dim("  (left by a jump)");
      if (level.interrupt) line += style_.warn("  (interrupt)");
      if (level.end != CallersEnd::kNone && level.end != CallersEnd::kStart)
        out += style_.dim("       the list ends here: " + callers_end_text(level.end)) + "\n";
      out += line + "\n";
    }
    return out;
  }

  std::string operator()(const Breakpoints& b) const {
    if (b.points.empty()) return "no breakpoints; `pause at PLACE` makes one\n";
    std::string out;
    if (!b.all_on)
      out += style_.warn("all breakpoints are off; `breakpoints on` brings them back") + "\n";
    for (const Breakpoint& p : b.points) {
      std::string line = fmt::format("{:>5} ", "(" + std::to_string(p.id) + ")");
      const bool at = p.spec.kind == BreakpointSpec::Kind::kPlace;
      line += style_.padded(at ? p.spec.place : subject_text(p.spec), 18) + clauses_text(p.spec);
      if (!p.enabled) line += style_.dim("  disabled");
      out += line + "\n";
      if (!p.waits_because.empty()) {
        out += style_.warn("      waits: " + style_.wrapped(p.waits_because, 13)) + "\n";
        continue;
      }
      std::string facts = fmt::format("      {} pass{}", p.passes, p.passes == 1 ? "" : "es");
      if (p.reached != p.passes) facts += fmt::format(", reached {} times", p.reached);
      if (!p.addresses.empty()) facts += "; at";
      for (const std::uint32_t a : p.addresses) facts += fmt::format(" {:#06x}", a);
      if (!p.functions.empty()) facts += fmt::format(" in {}", fmt::join(p.functions, ", "));
      if (!p.remark.empty()) facts += "; " + p.remark;
      for (std::size_t i = 0; i < p.spec.row.size(); ++i)
        facts += (i == 0 ? "; it tabulates " : "; ") + p.spec.row[i];
      out += style_.dim(facts) + "\n";
    }
    return out;
  }

  std::string operator()(const Watches& w) const {
    if (w.list.empty()) return "nothing is watched; `watch EXPR` keeps an expression in sight\n";
    std::string out;
    for (const WatchView& v : w.list) out += watch_line(v) + "\n";
    return out;
  }

  std::string operator()(const Faults& f) const {
    std::string out;
    for (const Session::Fault& fault : f.list)
      out += fmt::format("  {:<20} {:<5} {}\n", fault.name, fault.on ? "on" : "off", fault.words);
    return out;
  }

  std::string operator()(const Pins& p) const {
    std::string out = style_.dim(" pin      is      level  driven by") + "\n";
    for (std::size_t i = 0; i < p.pins.size(); ++i) {
      const PinView& view = p.pins[i];
      const std::string drivers = drivers_of(view.pin);
      // Neighbours that nobody cares about share a line.
      std::size_t last = i;
      const auto idle = [](const PinView& v) {
        return v.pin.floating && v.pin.taken_by.empty() && v.pin.level == v.level_before;
      };
      while (idle(view) && last + 1 < p.pins.size() && idle(p.pins[last + 1]) &&
             p.pins[last + 1].pin.name[1] == view.pin.name[1])
        ++last;
      const std::string names =
          last == i ? view.pin.name : view.pin.name + "-" + p.pins[last].pin.name;
      i = last;
      const bool changed = view.pin.level != view.level_before;
      const std::string level =
          fmt::format("{:<6}", std::string(view.pin.level ? "high" : "low") + (changed ? "*" : ""));
      out += fmt::format(" {:<8} {:<7} ", names, view.pin.output ? "output" : "input");
      out += (changed ? style_.changed(level) : level) + " ";
      out += (view.pin.contention ? style_.bad(drivers)
              : view.pin.floating ? style_.dim(drivers)
                                  : drivers) +
             "\n";
    }
    return out;
  }

  std::string operator()(const Parts& p) const {
    if (p.parts.empty()) return " no parts on the pins: give a bench file with --bench\n";
    std::string out = style_.dim(" part            pins         state") + "\n";
    for (const PartState& part : p.parts) {
      std::string pins;
      for (const std::string& pin : part.pins)
        if (pins.find(pin) == std::string::npos) pins += (pins.empty() ? "" : " ") + pin;
      out += fmt::format(" {:<15} {:<12} {}\n", part.name, pins, part.state);
    }
    return out;
  }

  std::string operator()(const IoRegisters& r) const {
    std::string out;
    std::string peripheral;
    for (const IoView& view : r.registers) {
      if (view.io.peripheral != peripheral) {
        peripheral = view.io.peripheral;
        out += style_.accent(peripheral) + "\n";
      }
      const bool changed = view.value != view.before;
      const std::string value = fmt::format("{:#0{}x}", view.value, 2 + 2 * view.io.bytes);
      std::string line = fmt::format("  {:#04x} {:<8} ", view.io.address, view.io.name);
      line += (changed ? style_.changed(value) + "*" : value + " ") +
              std::string(view.io.bytes == 1 ? 4 : 2, ' ');
      if (!view.io.modelled) line += style_.dim("not modelled ");
      constexpr std::size_t kBehind = 25;
      if (has_plain_bits(view))
        out += line + fmt::format("0b{:04b}_{:04b}", view.value >> 4, view.value & 0xf);
      else
        out += line + fields_text(view.fields, kBehind, true);
      while (out.back() == ' ') out.pop_back();
      out += "\n";
    }
    return out;
  }

  std::string operator()(const Variables& v) const {
    if (v.variables.empty()) return "no variables here\n";
    std::string out;
    for (const VariableView& view : v.variables) {
      // All locals are of one function; variables with an address tell whose they are.
      std::string owner = "   " + view.type;
      if (!view.file.empty()) owner += " in " + (view.function.empty() ? view.file : view.function);
      if (view.file.empty() && !view.which.empty()) owner += "   " + view.which;
      const bool changed = view.value != view.before;
      const bool short_enough = view.value.size() + view.before.size() < 40;
      const std::string value =
          changed && short_enough ? view.before + " → " + view.value : view.value;
      std::string line = fmt::format(" {:<20} = ", view.name);
      const std::size_t indent = style_.columns(line);
      line += changed && short_enough ? view.before + " → " + style_.changed(view.value)
                                      : style_.wrapped(value, indent);
      // The type goes below where it would not fit behind.
      const std::size_t last = style_.columns(line.substr(line.rfind('\n') + 1));
      if (last + style_.columns(owner) > style_.width())
        line += "\n" + std::string(indent - 3, ' ');
      out += line + style_.dim(owner) + "\n";
    }
    return out;
  }

  std::string operator()(const TimeView& t) const {
    const double mhz = static_cast<double>(t.clock_hz) / 1e6;
    std::string out = fmt::format(" {}, {} cycles at {} MHz", to_text(t.time), thousands(t.cycles),
                                  mhz / t.divided_by);
    if (t.divided_by != 1) out += fmt::format(" (now: {} MHz by {})", mhz, t.divided_by);
    out += '\n';
    if (t.behind.count != 0)
      out += fmt::format(" {} back: the timeline ends at {}\n", to_text(t.behind),
                         to_text(Picoseconds{t.time.count + t.behind.count}));
    if (t.cycles_since != t.cycles)
      out += fmt::format(" {} and {} cycles since the last pause\n", to_text(t.since),
                         thousands(t.cycles_since));
    if (t.asleep.count != 0)
      out += fmt::format(
          " asleep for {:.2f} % of the time\n",
          100.0 * static_cast<double>(t.asleep.count) / static_cast<double>(t.time.count));
    if (t.skipped.count != 0)
      out += fmt::format(
          " in loops that wait, gone through at once, for {:.2f} %\n",
          100.0 * static_cast<double>(t.skipped.count) / static_cast<double>(t.time.count));
    return out;
  }

  std::string operator()(const Explanation& e) const {
    std::string out =
        fmt::format(" {:06x}  {} {}\n", e.instruction.address, style_.bold(e.instruction.mnemonic),
                    style_.bold(e.instruction.operands));
    out += " " + style_.wrapped(e.words, 1) + "\n";
    if (!e.transfer.empty()) out += style_.dim(" " + style_.wrapped(e.transfer, 1)) + "\n";
    for (const std::string& fact : e.now) out += "   now: " + fact + "\n";
    if (!e.cycles.empty())
      out += fmt::format(" cycles: {}   flags written: {}\n", e.cycles,
                         e.flags.empty() ? "none" : e.flags);
    return out;
  }

  std::string operator()(const Serial& s) const {
    if (s.sent.empty()) return "nothing was sent\n";
    std::string out = s.sent;  // a carriage return at a line's end is none to be seen
    for (std::size_t at = 0; (at = out.find("\r\n", at)) != std::string::npos;) out.erase(at, 1);
    return out.back() == '\n' ? out : out + "\n";
  }

  std::string operator()(const Chips& c) const {
    std::string out = style_.dim(fmt::format(" {:<15} {:<6} {:>8} {:>7} {:>7}", "chip", "core",
                                             "flash", "RAM", "EEPROM")) +
                      "\n";
    for (const Chip::Summary& chip : c.chips)
      out += fmt::format(" {:<15} {:<6} {:>8} {:>7} {:>7}   {}\n", chip.name, chip.core, chip.flash,
                         chip.ram, chip.eeprom, style_.wrapped(chip.remark, 49));
    return out;
  }

  std::string operator()(const Help& h) const {
    std::string out;
    std::size_t widest = 0;  // one column for all sections
    bool shorter = false;
    for (const Help::Section& section : h.sections)
      for (const Help::Row& row : section.rows) {
        widest = std::max(widest, style_.columns(row.word));
        shorter = shorter || !row.shorter.empty();
      }
    for (const Help::Section& section : h.sections) {
      if (!out.empty() && (!section.title.empty() || !section.text.empty())) out += "\n";
      if (!section.title.empty()) out += style_.accent(section.title) + "\n";
      if (!out.empty() && section.title.empty() && !section.lines.empty()) out += "\n";
      for (const std::string& line : section.lines) out += "  " + line + "\n";
      if (!out.empty() && section.title.empty() && !section.rows.empty()) out += "\n";
      for (const Help::Row& row : section.rows) {
        std::string line =
            "  " + style_.bold(row.word) + std::string(widest + 2 - style_.columns(row.word), ' ');
        std::size_t indent = widest + 4;
        if (shorter) {
          line += style_.accent(fmt::format("{:<3}", row.shorter));
          indent += 3;
        }
        out += line + style_.wrapped(row.words, indent) + "\n";
      }
      if (!section.text.empty()) out += "  " + style_.wrapped(section.text, 2) + "\n";
    }
    return out;
  }

  std::string operator()(const Completions& c) const {
    std::string out;
    for (const std::string& word : c.words) out += "  " + word + "\n";
    return out.empty() ? "nothing can follow\n" : out;
  }

  std::string operator()(const ChipFacts& c) const {
    std::string out = fmt::format(" {}, core {}\n", c.info.name, c.info.core);
    for (const MemoryArea& m : c.info.memories)
      out += fmt::format("   {:<10} {:#06x} to {:#06x}  {} bytes\n", m.name, m.begin, m.end - 1,
                         m.end - m.begin);
    const auto listed = [&](const char* title, const std::vector<std::string>& names) {
      if (names.empty()) return std::string();
      std::string text = title;
      for (const std::string& name : names) text += " " + name;
      return "   " + style_.wrapped(text, 6) + "\n";
    };
    return out + listed("modelled:", c.modelled) + listed("registers only:", c.registers_only);
  }

  std::string operator()(const Demos& d) const {
    std::string out = "A kiln controller, and eight builds of it with one fault each:\n\n";
    for (const Demos::Item& item : d.list)
      out += "  " + style_.bold(style_.padded(item.name, 15)) + " " +
             style_.wrapped(item.words, 18) + "\n";
    return out +
           "\nPlay one with `lucid demo NAME`, all with `lucid demo --all`. To look around "
           "yourself:\n  lucid open " +
           d.folder + "/images/kiln-og.elf\n";
  }

 private:
  /// Bits without meanings of their own: PORTB7 to PORTB0.
  static bool has_plain_bits(const IoView& view) {
    return view.io.bytes == 1 && !view.fields.empty() &&
           std::all_of(view.fields.begin(), view.fields.end(), [&](const Value::Field& field) {
             return field.name.size() == view.fields[0].name.size() &&
                    field.name.compare(0, field.name.size() - 1, view.fields[0].name, 0,
                                       field.name.size() - 1) == 0 &&
                    std::isdigit(static_cast<unsigned char>(field.name.back())) != 0;
           });
  }

  /// Bits and fields as `WGM12=1  CS1=2 (clk/8)`, those that are clear stepping back.
  [[nodiscard]] std::string fields_text(const std::vector<Value::Field>& fields, std::size_t indent,
                                        bool behind = false) const {
    std::string out = behind ? "" : std::string(indent, ' ');
    std::size_t used = indent;
    for (const Value::Field& field : fields) {
      std::string item = fmt::format("{}={}", field.name, field.value);
      if (!field.meaning.empty()) item += " (" + field.meaning + ")";
      if (used != indent && used + 2 + style_.columns(item) > style_.width()) {
        out += "\n" + std::string(indent, ' ');
        used = indent;
      }
      if (used != indent) out += "  ";
      used += style_.columns(item) + (used != indent ? 2 : 0);
      out += field.value == 0 ? style_.dim(item) : item;
    }
    return out;
  }

  [[nodiscard]] std::string headline(const Pause& p) const {
    std::string cause;
    switch (p.cause) {
      case Pause::Cause::kReady:
        cause = p.detail == "reset" ? "reset" : p.backwards ? "the start" : "ready";
        break;
      case Pause::Cause::kBreakpoint: cause = "breakpoint " + list(p.breakpoints); break;
      case Pause::Cause::kStep: cause = p.backwards ? "stepped back" : "stepped"; break;
      case Pause::Cause::kArrived: cause = "arrived"; break;
      case Pause::Cause::kTimeUp: cause = p.backwards ? "went back" : "time is up"; break;
      case Pause::Cause::kHolds: cause = p.detail + " holds"; break;
      case Pause::Cause::kRequested: cause = "paused on request"; break;
      case Pause::Cause::kFault: cause = "fault"; break;
      case Pause::Cause::kBreakInstruction: cause = "break instruction"; break;
      case Pause::Cause::kMoved: cause = "moved"; break;
      case Pause::Cause::kCannotTell: cause = "cannot tell"; break;
      case Pause::Cause::kData: cause = data_headline(*p.data); break;
      case Pause::Cause::kEvent: cause = p.detail; break;
      case Pause::Cause::kLimit: cause = "nothing has paused it within " + p.detail; break;
    }
    const bool bad = p.cause == Pause::Cause::kFault || p.cause == Pause::Cause::kCannotTell;
    std::string out = bad ? style_.bad(cause) : style_.accent(cause);
    if (p.cause != Pause::Cause::kBreakpoint && !p.breakpoints.empty())
      out += ", breakpoint " + list(p.breakpoints);
    out += " · " + style_.bold(place(p.where));
    if (!p.breakpoints.empty()) {
      out += fmt::format(" · pass {}", p.passes);
      if (p.reached != p.passes) out += fmt::format(" (reached {} times)", p.reached);
    }
    if (p.cycles_since != 0) out += style_.dim((p.backwards ? " · −" : " · +") + to_text(p.since));
    out = style_.wrapped(out, 2) + "\n";
    if (p.handler) {
      out += "  leads to " + place(*p.handler);
      out += p.interrupted ? ", has interrupted " + place(*p.interrupted) + "\n" : "\n";
    }
    const bool worded = bad || (p.backwards && p.cause == Pause::Cause::kReady) ||
                        (p.cause == Pause::Cause::kStep && !p.detail.empty());
    if (p.data) out += data_lines(*p.data);
    if (worded)
      out += (bad ? style_.bad("  " + style_.wrapped(p.detail, 2)) : "  " + p.detail) + "\n";
    return out;
  }

  [[nodiscard]] std::string watch_line(const WatchView& v) const {
    std::string line = fmt::format("{:>5} {} = ", "(" + std::to_string(v.id) + ")", v.expression);
    if (!v.problem.empty()) {
      line += v.value.empty() ? v.problem
                              : fmt::format("{}, last known as {} at {} in {}", v.problem, v.value,
                                            to_text(v.known_at), place(v.known_in));
      return style_.dim(line);
    }
    const std::string which = v.which.empty() ? "" : style_.dim("   " + v.which);
    if (!v.before.empty() && v.before != v.value)
      return line + style_.changed(v.before + " → " + v.value) + which;
    return line + v.value + which;
  }
  static std::string data_headline(const DataAccess& d) {
    switch (d.how) {
      case DataAccess::How::kRead: return fmt::format("{} = {} has been read", d.object, d.after);
      case DataAccess::How::kWritten:
        return fmt::format("{} = {} has been written", d.object, d.after);
      case DataAccess::How::kChanged: break;
    }
    return fmt::format("{} {} → {}", d.object, d.before, d.after);
  }
  [[nodiscard]] std::string data_lines(const DataAccess& d) const {
    std::string out = fmt::format("by {:06x} {} in {}", d.by.address, d.instruction, place(d.by));
    if (d.stores.size() > 1) {
      out += "; its bytes by";
      for (const std::uint32_t store : d.stores) out += fmt::format(" {:06x}", store);
    }
    out = "  " + style_.wrapped(out, 4) + "\n";
    if (!d.interrupt.empty())
      out +=
          style_.warn(fmt::format("  interrupt {} came before all of it was stored", d.interrupt)) +
          "\n";
    return out;
  }

  static std::string list(const std::vector<unsigned>& ids) {
    std::string out;
    for (const unsigned id : ids) out += (out.empty() ? "" : ", ") + std::to_string(id);
    return out;
  }

  [[nodiscard]] std::string changed_line(const std::vector<VariableView>& changed) const {
    std::string out = "  changed:";
    std::size_t used = out.size();
    std::size_t shown = 0;
    for (const VariableView& v : changed) {
      const std::string name = v.which.empty() ? v.name : v.name + " " + v.which;
      const std::string item = fmt::format(" {} {} → {}", name, v.before, v.value);
      if (used + style_.columns(item) + 12 > style_.width() && shown != 0) break;
      if (style_.columns(item) > style_.width() - 12) continue;
      out += (shown == 0 ? "" : ",") + item;
      used += style_.columns(item) + 1;
      ++shown;
    }
    if (shown == 0) return "";
    if (shown < changed.size()) out += fmt::format(", {} more", changed.size() - shown);
    return style_.dim(out) + "\n";
  }

  const Style& style_;
};

}  // namespace

std::string drivers_of(const PinState& pin) {
  std::string out = pin.taken_by;
  const auto add = [&](const std::string& text) { out += (out.empty() ? "" : ", ") + text; };
  if (out.empty() && pin.output) add("the port");
  if (pin.pull_up) add("pull-up");
  if (pin.pulled_up_outside) add("pull-up outside");
  if (pin.microvolts)
    add(fmt::format("{:g} V from outside", *pin.microvolts / 1e6));
  else if (pin.driven)
    add(pin.driven_high ? "high from outside" : "low from outside");
  if (pin.floating) add(out.empty() ? "nobody: floating" : "floating");
  if (pin.contention) add("contention");
  return out;
}

std::string to_text(const Reply& reply, const Style& style) {
  return std::visit(TextViews(style), reply);
}

}  // namespace lucid::app
