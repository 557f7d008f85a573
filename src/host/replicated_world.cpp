// The client's half of replication: snapshots in, events and interpolated values out, inputs and
// reports back. The tables that the handshake agreed on are known when the connection opens, so the
// decoder is made there; each new connection starts with an empty world.
#include "kwind/host/replicated_world.h"

#include <algorithm>

namespace kwind::host {

ReplicatedWorld::ReplicatedWorld(Client& client, const schema::EntitiesInfo& entities,
                                 ReplicatedWorldOptions options)
    : client_(client),
      entities_(entities),
      options_(std::move(options)),
      playout_(options_.playout) {
  begin();
  // A resumed connection goes on where the old one stopped: its world stays.
  client_.on_connect(lifetime_.bind([this] {
    if (!client_.resumed()) begin();
  }));
  client_.on_payload([this](std::span<const std::byte> payload, std::size_t bits) {
    bits_received_ += bits;
    return world_->receive(payload, bits);
  });
  client_.set_reference_filter(
      [this](const schema::AnyRef& entity) { return world_->is_there(entity); });
  client_.attach(*this);
}

ReplicatedWorld::~ReplicatedWorld() {
  client_.detach(*this);
  client_.schedule_payload(nullptr, 0);
  client_.on_payload(nullptr);
  client_.set_reference_filter(nullptr);
}

// Each connection begins with an empty world: the server does not know what the client kept.
void ReplicatedWorld::begin() {
  const std::uint64_t agreed = client_.code_tables();
  // Both ends must decode with the same tables. 0 stands for the built-in ones. A server of an older
  // version agrees to a set whose alphabets are those of its own columns, in their order.
  const auto found = std::find_if(options_.code_tables.begin(), options_.code_tables.end(),
                                  [&](const auto& tables) { return tables->digest() == agreed; });
  // ClientOptions::code_table_sets offers tables that ReplicatedWorldOptions::code_tables lacks.
  KWIND_ASSERT(agreed == 0 || found != options_.code_tables.end());
  client_.schedule_payload(nullptr, 0);
  // The entities of the connection before are gone: after_receive() calls on_despawn for each.
  const auto old = world_ ? world_->entities() : std::vector<schema::AnyRef>{};
  for (const schema::AnyRef& entity : old) {
    left_behind_.push_back(
        {replica::EntityEvent::Type::despawned, entity, world_->type_of(entity).value_or(0)});
  }
  world_ =
      std::make_unique<replica::ClientWorld>(entities_, options_.playout.ticks_per_second,
                                             agreed == 0 ? nullptr : *found, client_.version());
  inputs_ = std::make_unique<replica::InputSender>(*world_, options_.input_copies);
  playout_ = replica::PlayoutClock(options_.playout);
  shown_tick_ = 0;
  ++starts_;
}

// The first snapshot says how many ticks the server's world has in a second.
void ReplicatedWorld::follow_rate() {
  const double rate = world_->ticks_per_second();
  if (rate == options_.playout.ticks_per_second) return;
  options_.playout.ticks_per_second = rate;
  playout_ = replica::PlayoutClock(options_.playout);
}

// The end of a receive(): the playout clock takes the newest tick, then handlers get the events.
void ReplicatedWorld::after_receive(Time now, const Guard& guard) {
  // Events are reported after all snapshots of this receive() were taken: handlers see a world of one
  // tick.
  const bool is_new = world_->tick() != shown_tick_;
  if (is_new) {
    follow_rate();
    shown_tick_ = world_->tick();
    playout_.on_snapshot(now, shown_tick_);
  }
  for (const replica::EntityEvent& event : std::exchange(left_behind_, {})) report(event, guard);
  for (const replica::EntityEvent& event : world_->take_events()) report(event, guard);
  if (is_new) on_snapshot_.each(guard);
}

void ReplicatedWorld::report(const replica::EntityEvent& event, const Guard& guard) {
  for (std::size_t i = 0; i < handlers_.size(); ++i) {  // a handler may add others
    if (handlers_[i].type != event.type || handlers_[i].entity_type != event.entity_type) continue;
    guard([&, call = handlers_[i].call] { call(event.entity); });
  }
  on_any_event_.each([&](const auto& handler) { guard([&] { handler(event); }); });
}

void ReplicatedWorld::before_flush(Time, const Guard&) {
  // Inputs and reports take one datagram at most, and none if there is nothing to say.
  client_.schedule_payload(inputs_.get(), 1);
}

}  // namespace kwind::host
