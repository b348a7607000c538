// SPDX-License-Identifier: MIT
// Where a pin's level has come from: its last edge, and who made it; and its edges as a table.
#include <fmt/format.h>

#include <algorithm>
#include <deque>

#include "base/text.h"
#include "machine/tap.h"
#include "session/kept.h"
#include "session/origins.h"
#include "session/quiet.h"

namespace lucid {
namespace {

class Edges final : public machine::RecordSink {
 public:
  explicit Edges(std::uint32_t pin) : pin_(pin) {}
  void take(const machine::Record* records, std::size_t count) override {
    for (std::size_t i = 0; i < count; ++i)
      if (records[i].number == pin_) all.push_back(records[i]);
  }
  std::vector<machine::Record> all;

 private:
  std::uint32_t pin_;
};

const char* level_word(bool high) { return high ? "high" : "low"; }

}  // namespace

/// The last edges of a pin before now, the latest last. REQUIRES: a Quiet.
Result<std::vector<machine::Record>> Session::Core::last_edges(std::uint32_t pin,
                                                               const record::Moment& present,
                                                               std::size_t most) {
  std::deque<machine::Record> out;
  const auto done = latest(present, [&](const record::Moment& until) {
    Edges edges(pin);
    (void)machine().listen(bit(machine::EventKind::kEdge), &edges).has_value();
    acts_until_ = until.acts;
    machine::RunRequest request;
    request.until_ticks = until.tick;
    while (machine().ticks() < until.tick && !pause_requested_) {
      if (run(request).stop.why == machine::Stop::Why::kFault) break;
      stood_at_ = {machine().pc(), machine().ticks()};
    }
    happen();  // what is done at that moment
    (void)machine().listen(0, nullptr).has_value();
    for (auto edge = edges.all.rbegin(); edge != edges.all.rend(); ++edge)
      if (out.empty() || edge->tick < out.front().tick) out.push_front(*edge);
    return out.size() >= most ? std::optional<record::Moment>(now()) : std::nullopt;
  });
  if (!done) return fail(done.error());
  while (out.size() > most) out.pop_front();
  return std::vector<machine::Record>(out.begin(), out.end());
}

/// The act that has made an edge, if a person or the world outside has; null: the chip.
const record::Act* Session::Core::act_on(const std::string& pin, std::uint64_t tick) const {
  for (const record::Act& act : timeline_.acts())
    if (act.tick == tick && base::equal_ignoring_case(act.input.pin, pin)) return &act;
  return nullptr;
}

/// What the instruction at the machine's PC writes of the I/O registers.
std::optional<machine::Cell> Session::Core::io_written_here() {
  const Instruction instruction = machine().instruction_at(machine().pc());
  for (const IoRegister& io : machine().info().io) {
    const machine::Cell cell{machine::Cell::Kind::kMemory, 0, {Space::kData, io.address}};
    const auto how = machine().target().making(machine(), instruction, cell).how;
    if (io.bytes == 1 && how != machine::Making::How::kNot) return cell;
  }
  return std::nullopt;
}

Result<OriginView> Session::Core::pin_origin(const std::string& object, const std::string& pin,
                                             unsigned depth) {
  const auto number = machine().wire_pin(pin);
  if (!number)
    return fail(ErrorCode::kUsage, fmt::format("'{}' makes no edges that could be followed", pin));
  if (timeline_.first() == nullptr) return no_past();
  const record::Moment present = now();
  OriginView out;
  OriginNode node;
  node.object = object;
  for (const PinState& state : machine().pins())
    if (base::equal_ignoring_case(state.name, pin)) node.value = level_word(state.level);
  begin_back();
  const auto kept = keep();
  const std::uint64_t hz = machine().info().clock_hz;
  const auto look = [&]() -> Result<void> {
    const Quiet quiet(*this);
    auto edges = last_edges(*number, present, 1);
    if (!edges) return fail(edges.error());
    origin_moments_.assign(1, timeline_.first()->at);
    node.how = OriginNode::How::kStart;
    if (edges->empty()) return {};
    const machine::Record edge = edges->front();
    node.time = to_time(edge.tick, hz);
    const record::Act* act = act_on(pin, edge.tick);
    record::Moment at{edge.tick, present.acts};
    if (act != nullptr) at.acts = static_cast<std::size_t>(act - timeline_.acts().data());
    const auto before = act != nullptr ? Result<std::optional<record::Moment>>(at)
                                       : boundary_before(record::Moment{edge.tick, 0});
    if (!before) return fail(before.error());
    if (!*before) return {};
    restore_at(**before);
    origin_moments_.assign(1, **before);
    node.how = act != nullptr ? OriginNode::How::kOutside : OriginNode::How::kHardware;
    node.where = location(machine().pc());
    const Instruction instruction = machine().instruction_at(machine().pc());
    node.instruction =
        instruction.mnemonic + (instruction.operands.empty() ? "" : " " + instruction.operands);
    if (act != nullptr || machine().pc() != edge.pc) return {};
    const auto cell = io_written_here();
    if (!cell) return {};
    machine::RunRequest one;
    one.instructions = 1;
    (void)run(one);
    stood_at_ = {machine().pc(), machine().ticks()};
    const std::string name = data_name(cell->address.offset);
    const std::string value = fmt::format("{:#04x}", machine().peek(cell->address).value_or(0));
    node.how = OriginNode::How::kWorked;
    node.from.push_back({name, value});
    if (depth < 2) return {};
    Origins origins(*this);
    if (auto done = origins.tree(name, value, {*cell}, now(), 1, depth); !done) return done;
    out.nodes = std::move(origins.nodes);
    origin_moments_.insert(origin_moments_.end(), origins.moments.begin(), origins.moments.end());
    return {};
  };
  const auto done = look();
  const bool asked = pause_requested_.exchange(false);
  running_ = false;
  (void)return_to(*kept).has_value();
  out.nodes.insert(out.nodes.begin(), std::move(node));
  out.interrupted = asked || !done;
  return out;
}

Result<std::vector<Session::Write>> Session::Core::pin_history(const std::string& object,
                                                               const std::string& pin,
                                                               std::size_t most) {
  const auto number = machine().wire_pin(pin);
  if (!number)
    return fail(ErrorCode::kUsage, fmt::format("'{}' makes no edges that could be followed", pin));
  if (timeline_.first() == nullptr) return no_past();
  const record::Moment present = now();
  begin_back();
  const auto kept = keep();
  Result<std::vector<machine::Record>> edges;
  {
    const Quiet quiet(*this);
    edges = last_edges(*number, present, most);
  }
  pause_requested_ = false;
  running_ = false;
  (void)return_to(*kept).has_value();
  if (!edges) return fail(edges.error());
  std::vector<Session::Write> out;
  history_moments_.clear();
  for (const machine::Record& edge : *edges) {
    Session::Write row{to_time(edge.tick, machine().info().clock_hz), {}};
    row.access.object = object;
    row.access.before = level_word(edge.value == 0);
    row.access.after = level_word(edge.value != 0);
    row.access.by = location(edge.pc);
    const Instruction by = machine().instruction_at(edge.pc);
    row.access.instruction = by.mnemonic + (by.operands.empty() ? "" : " " + by.operands);
    out.push_back(std::move(row));
    std::size_t acts = 0;
    while (acts < timeline_.acts().size() && timeline_.acts()[acts].tick < edge.tick) ++acts;
    if (act_on(pin, edge.tick) != nullptr) ++acts;
    history_moments_.push_back({edge.tick, acts});
  }
  return out;
}

}  // namespace lucid
