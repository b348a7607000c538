// SPDX-License-Identifier: MIT
// What a race search compares and finds, and the values at which what can be torn is torn.
#include <fmt/format.h>

#include <algorithm>

#include "session/race.h"

namespace lucid {

using machine::Machine;
using machine::Stop;
using Finding = RaceView::Finding;

frames::Scope Session::Core::Race::scope(const Machine& machine) const {
  frames::Scope out{core_.program_, machine, core_.flows_, core_.static_end_, 0, {}};
  out.names_at = function_->begin;
  return out;
}

void Session::Core::Race::choose_spans() {
  const MemoryArea* ram = base_->area("ram");
  if (ram == nullptr) return;
  const std::uint32_t statics = core_.static_end_.value_or(ram->begin);
  if (statics > ram->begin) spans_.push_back({{}, ram->begin, statics - ram->begin});
  const std::uint32_t above = sp_behind_ + base_->target().convention().stack_gap;
  if (above < ram->end) spans_.push_back({{}, above, ram->end - above});
  for (const std::uint32_t address : base_->latches()) spans_.push_back({{}, address, 1});
  if (stretch_ != nullptr && stretch_->open.object.io)
    spans_.push_back({{}, stretch_->open.object.begin, 1});
  const auto& registers = base_->target().registers();
  const std::uint32_t bytes = function_->returns == 0 || stretch_ != nullptr
                                  ? 0
                                  : core_.program_.types()[function_->returns].bytes;
  const machine::RegisterSpan result =
      stretch_ != nullptr ? machine::RegisterSpan{} : base_->target().returned_in(bytes);
  const auto clobbered = base_->target().convention().call_clobbered;
  const int sp = base_->target().convention().sp_dwarf;
  for (unsigned index = 0; index < registers.size(); ++index) {
    const int dwarf = registers[index].dwarf;
    if (dwarf < 0 || dwarf == sp || dwarf >= 64) continue;
    const bool returned = dwarf >= result.first && dwarf < result.first + result.count;
    if (returned || stretch_ != nullptr || (clobbered >> dwarf & 1U) == 0)
      spans_.push_back({index, 0, 1});
    if (returned) results_.insert(index);
  }
}

std::vector<std::uint8_t> Session::Core::Race::bytes_of(const Machine& machine) const {
  std::vector<std::uint8_t> out;
  for (const Span& span : spans_) {
    if (span.index) {
      const std::uint64_t value = machine.register_value(*span.index);
      const unsigned bits = machine.target().registers()[*span.index].bits;
      for (unsigned bit = 0; bit < bits; bit += 8)
        out.push_back(static_cast<std::uint8_t>(value >> bit));
      continue;
    }
    if (const auto* plain = machine.plain_bytes({Space::kData, span.begin}, span.count)) {
      out.insert(out.end(), plain, plain + span.count);
      continue;
    }
    for (std::uint32_t i = 0; i < span.count; ++i)
      out.push_back(machine.peek({Space::kData, span.begin + i}).value_or(0));
  }
  return out;
}

Session::Core::Raced::Raise Session::Core::Race::raise_at(const Machine& here, unsigned vector) {
  return {here.ticks(), here.pc(), vector};
}

void Session::Core::Race::judge(const Ending& end, const Orders& orders, bool all,
                                const Machine& here, Finding finding,
                                std::vector<Raced::Raise> raises) {
  const auto broken_in = [](const Ending* order) { return !order->holds; };
  const bool always = !orders.empty() && std::all_of(orders.begin(), orders.end(), broken_in);
  const bool broken = end.returned && !end.holds && !always;
  const bool as_in_an_order = std::any_of(orders.begin(), orders.end(),
                                          [&](const Ending* o) { return o->bytes == end.bytes; });
  if (end.returned && !broken && (as_in_an_order || !all)) return;
  finding.kind = end.kind;
  finding.detail = end.detail;
  if (end.returned && all) finding.kind = compare(end, orders, finding.objects);
  if (stretch_ != nullptr && end.returned && all && tell_read(orders, finding.objects))
    finding.kind = Finding::Kind::kNeither;
  if (broken) finding.kind = Finding::Kind::kBroken;
  finding.where = core_.location(here.pc());
  finding.cycles = here.cycles() - entered_cycle_;
  finding.at = to_time(here.ticks(), here.info().clock_hz);
  finding.with = variant_.text;
  // Once a place: what has been found without a changed value says the same.
  for (Found& known : found_) {
    const Finding& other = known.finding;
    if (other.where.address != finding.where.address || other.kind != finding.kind ||
        other.interrupt != finding.interrupt || other.first != finding.first)
      continue;
    if (other.with == finding.with) ++known.finding.times;
    if (other.with == finding.with || other.with.empty()) return;
  }
  Raced raced;
  raced.entered = entered_;
  raced.raises = std::move(raises);
  raced.byte = spec_.byte;
  raced.edits = variant_.edits;
  raced.loads = core_.loads_;
  found_.push_back({std::move(finding), std::move(raced)});
}

Finding::Kind Session::Core::Race::compare(const Ending& end, const Orders& orders,
                                           std::vector<Finding::Object>& objects) const {
  struct Differing {
    Finding::Object object;
    std::vector<bool> as;  ///< by order
  };
  std::vector<Differing> parts;
  const auto part = [&](const std::string& name) -> Differing& {
    for (Differing& p : parts)
      if (p.object.name == name) return p;
    parts.push_back({{name, {}, {}, {}}, std::vector<bool>(orders.size(), true)});
    return parts.back();
  };
  const auto value = [&](const std::string& name, const Machine& machine, const Ending& ending,
                         std::size_t at) {
    return value_of(name, machine, fmt::format("{:#04x}", ending.bytes[at]));
  };
  std::size_t at = 0;
  for (const Span& span : spans_) {
    const unsigned bytes =
        span.index ? (base_->target().registers()[*span.index].bits + 7U) / 8U : span.count;
    for (std::uint32_t i = 0; i < bytes; ++i, ++at) {
      const auto same = [&](const Ending* order) { return order->bytes[at] == end.bytes[at]; };
      if (std::all_of(orders.begin(), orders.end(), same)) continue;
      Differing& p = part(name_of(span, i));
      for (std::size_t o = 0; o < orders.size(); ++o) p.as[o] = p.as[o] && same(orders[o]);
      if (!p.object.value.empty()) continue;
      const std::string& name = p.object.name;
      p.object.value = value(name, *fork_, end, at);
      p.object.if_before = value(name, *orders.front()->machine, *orders.front(), at);
      p.object.if_behind = value(name, *orders.back()->machine, *orders.back(), at);
    }
  }
  const auto in_an_order = [](const Differing& p) {
    return std::count(p.as.begin(), p.as.end(), true) != 0;
  };
  const bool mixed = std::all_of(parts.begin(), parts.end(), in_an_order);
  for (Differing& p : parts)
    if (mixed || !in_an_order(p)) objects.push_back(std::move(p.object));
  return mixed ? Finding::Kind::kMixed : Finding::Kind::kNeither;
}

/// The bytes that were read before the interrupt are from before it, the others from behind.
bool Session::Core::Race::tell_read(const Orders& orders,
                                    std::vector<Finding::Object>& objects) const {
  const Accesses::Open& open = stretch_->open;
  if (open.how != Accesses::Open::How::kReads) return false;
  const auto untouched = base_->clone(), mixed = fork_->clone();
  for (const machine::Edit& edit : variant_.edits) (void)machine::make(*untouched, edit);
  for (std::size_t i = 0; i < passed_ && i < open.parts.size(); ++i) {
    const Address at{Space::kData, open.parts[i].address};
    const std::uint64_t byte = untouched->peek(at).value_or(0);
    (void)machine::make(*mixed, {machine::Edit::Kind::kPoke, at, 0, byte});
  }
  Finding::Object read{open.object.name + " as read", {}, {}, {}};
  read.value = value_of(open.object.name, *mixed, {});
  read.if_before = value_of(open.object.name, *orders.front()->machine, {});
  read.if_behind = value_of(open.object.name, *untouched, {});
  if (read.value.empty() || read.value == read.if_before || read.value == read.if_behind)
    return false;
  objects = {std::move(read)};
  return true;
}

std::string Session::Core::Race::name_of(const Span& span, std::uint32_t offset) const {
  if (span.index)
    return results_.count(*span.index) != 0 ? kReturns
                                            : base_->target().registers()[*span.index].name;
  const std::uint32_t address = span.begin + offset;
  std::string name = core_.data_name(address);
  if (const std::size_t into = name.find(" + "); into != std::string::npos) name.resize(into);
  return name.empty() ? fmt::format("{:#06x}", address) : name;
}

std::string Session::Core::Race::value_of(const std::string& name, const Machine& machine,
                                          const std::string& otherwise) const {
  if (name == kReturns) return core_.returned_value(*function_, machine).value_or(otherwise);
  const frames::Scope here = scope(machine);
  const auto parsed = expression::Expression::parse(name, here);
  if (!parsed || !parsed->names_variable()) return otherwise;
  const auto value = parsed->evaluate(here);
  return value ? expression::written(*value, {}, here) : otherwise;
}

auto Session::Core::Race::variants() -> std::vector<Variant> {
  std::vector<Variant> out;
  std::set<std::uint32_t> seen;
  for (const Vector& vector : vectors_) {
    (void)fork_->assume(*base_);
    if (fork_->raise(vector.number, spec_.byte) == Machine::Raised::kNot ||
        !fork_->interrupt_imminent())
      continue;
    const std::uint32_t pc = fork_->pc(), sp = fork_->sp();
    machine::RunRequest enter;
    enter.stop_at_interrupt = true;
    if (fork_->run(enter).why != Stop::Why::kInterruptEntered) continue;
    machine::RunRequest one;
    one.instructions = 1;
    one.pass_first_breakpoint = true;
    // A handler is short; what is not is left to the values at hand.
    constexpr unsigned kLongest = 100'000;
    for (unsigned i = 0; i < kLongest && !(fork_->pc() == pc && fork_->sp() == sp); ++i)
      (void)fork_->run(one);
    for (const Variable& v : core_.program_.variables())
      if (v.address.space == Space::kData) numbers(v.name, v.type, v.address.offset, 0, seen, out);
  }
  leave_touched(out);
  constexpr std::size_t kMost = 8;
  if (out.size() > kMost) out.resize(kMost);
  return out;
}

void Session::Core::Race::leave_touched(std::vector<Variant>& variants) const {
  const auto watching = base_->clone();
  (void)watching->set_breakpoint(returns_to_, true);
  for (const Variant& variant : variants)
    for (const machine::Edit& edit : variant.edits)
      (void)watching->watch(edit.address, machine::kOnRead | machine::kOnWrite);
  std::set<Address> touched;
  machine::RunRequest request;
  request.until_ticks = until_;
  for (bool under_way = true; under_way;) {
    const Stop stop = watching->run(request);
    request.pass_first_breakpoint = true;
    for (const machine::Access& access : stop.accesses) {
      touched.insert(access.address);
      (void)watching->watch(access.address, 0);
    }
    under_way = stop.why == Stop::Why::kAccess ||
                (stop.why == Stop::Why::kBreakpoint && watching->sp() != sp_behind_);
  }
  variants.erase(std::remove_if(variants.begin(), variants.end(),
                                [&](const Variant& variant) {
                                  return std::none_of(variant.edits.begin(), variant.edits.end(),
                                                      [&](const machine::Edit& edit) {
                                                        return touched.count(edit.address) != 0;
                                                      });
                                }),
                 variants.end());
}

void Session::Core::Race::numbers(const std::string& name, unsigned type_index,
                                  std::uint32_t address, unsigned depth,
                                  std::set<std::uint32_t>& seen, std::vector<Variant>& out) const {
  using Kind = Type::Kind;
  constexpr unsigned kDeepest = 4, kMostElements = 64;
  const Type& type = core_.program_.types()[type_index];
  if (depth > kDeepest) return;
  if (type.kind == Kind::kStruct)
    for (const Type::Member& member : type.members)
      if (member.bit_size == 0)
        numbers(name + "." + member.name, member.type, address + member.offset, depth + 1, seen,
                out);
  if (type.kind == Kind::kArray)
    for (std::uint32_t i = 0; i < std::min(type.count, kMostElements); ++i)
      numbers(fmt::format("{}[{}]", name, i), type.target,
              address + i * core_.program_.types()[type.target].bytes, depth + 1, seen, out);
  if (type.kind != Kind::kSigned && type.kind != Kind::kUnsigned) return;
  if (type.bytes < 2 || type.bytes > 8) return;
  std::uint64_t old = 0, now = 0;
  bool some_stay = false;
  for (std::uint32_t i = 0; i < type.bytes; ++i) {
    const std::uint64_t a = base_->peek({Space::kData, address + i}).value_or(0);
    const std::uint64_t b = fork_->peek({Space::kData, address + i}).value_or(0);
    old |= a << (8 * i);
    now |= b << (8 * i);
    some_stay = some_stay || a == b;
  }
  if (old == now || !some_stay || !seen.insert(address).second) return;
  // It counts up or down by a little: the value before all bytes but the highest overflow.
  const std::uint64_t carry = std::uint64_t{1} << (8 * (type.bytes - 1));
  const std::uint64_t up = (now - old) & (carry * 256 - 1);
  const std::uint64_t down = (old - now) & (carry * 256 - 1);
  constexpr std::uint64_t kLittle = 256;
  if (std::min(up, down) >= std::min(kLittle, carry)) return;
  const std::uint64_t value = up < down ? carry - up : carry - 1 + down;
  if (value == old) return;
  Variant variant;
  variant.text = fmt::format("{} = {}", name, value);
  for (std::uint32_t i = 0; i < type.bytes; ++i)
    variant.edits.push_back(
        {machine::Edit::Kind::kPoke, {Space::kData, address + i}, 0, value >> (8 * i) & 0xffU});
  out.push_back(std::move(variant));
}

}  // namespace lucid
