// SPDX-License-Identifier: MIT
#include "avr/peripherals/wire_end.h"

namespace lucid::avr {

void Bus::offer(u8 pin, u8 offer, u64 cycle) const {
  outputs_.offers.push_back({world.tick_at(cycle), pin, offer});
  happened(machine::EventKind::kWire);
  const unsigned slot = world.sync_slot();
  if (outputs_.companions != nullptr && cycle < world.due(slot))
    world.schedule_tick(slot, world.tick_at(cycle));
}

void WireEnd::receive(const Bus& bus, const machine::WireChange& change) const {
  auto& inbox = bus.world.inbox;
  inbox.push_back(change);
  if (inbox.size() == 1) bus.schedule_tick(slot_, change.tick);
}

void WireEnd::on_event(const Bus& bus, unsigned slot, u64 due) const {
  World& world = bus.world;
  if (world.sync_slot() == slot) {
    WireHost host(ports_, bus, due);
    host.companions()->sync(host);
    return;
  }
  while (!world.inbox.empty() && world.cycle_at(world.inbox.front().tick) <= due) {
    const machine::WireChange change = world.inbox.front();
    world.inbox.erase(world.inbox.begin());
    ports_[change.pin / 8U]->join(bus, change.pin % 8U, change.offer, due);
  }
  bus.schedule_tick(slot_, world.inbox.empty() ? kNever : world.inbox.front().tick);
}

}  // namespace lucid::avr
