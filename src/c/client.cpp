// The client of the C interface: a kwind::Client and, if wanted, its ReplicatedWorld, whose
// handlers fill a queue of events.
//
// Each function of the interface does the same: lock the handle, check what the caller passed,
// call the C++ client, and put the outcome into the result. with(), with_message(), with_world()
// and with_entity() are these checks, from few to many.
// Nothing calls the caller back: what happens between two steps waits in the queue of events, so
// that languages without callbacks can bind to the interface.
#include "kwind/client.h"

#include <algorithm>
#include <optional>
#include <utility>

#include "c/host.h"
#include "c/struct_plan.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"

namespace kwind::c {
namespace {

struct ClientObject final : Object {
  static constexpr ObjectType kType = ObjectType::client;
  explicit ClientObject(const std::shared_ptr<ProtocolObject>& protocol)
      : Object(kType), messages(protocol, schema::Direction::from_client) {}

  void attach();
  void attach_world(unsigned tick_rate);
  // Pushes the event for a change of the connection's state.
  void on_state(ConnectionState state, Errc code, std::string_view reason);

  // In this order: events of the client's end still go into the queue.
  Messages messages;
  std::shared_ptr<std::string> ticket = std::make_shared<std::string>();
  std::unique_ptr<Client> client;
  std::optional<ReplicatedWorld> world;
  // The state of the last event.
  ConnectionState last_state = ConnectionState::connecting;
  // Reused, so that texts and lists of entities keep their storage.
  std::vector<schema::Value> newest;
  std::vector<schema::Value> later;
  // Into structs, by entity type: the plan for the layout that was used last.
  struct Copying {
    const kwind_layout* layout = nullptr;
    std::optional<StructPlan> plan;
  };
  std::vector<Copying> copying;
};

// Turns a change of state into an event; a new attempt to connect makes none.
void ClientObject::on_state(ConnectionState state, Errc code, std::string_view reason) {
  const bool was_connected = last_state == ConnectionState::connected;
  last_state = state;
  QueuedEvent event;
  event.error = code;
  switch (state) {
    case ConnectionState::connected: event.event = KWIND_EVENT_CONNECTED; break;
    case ConnectionState::closed: event.event = KWIND_EVENT_DISCONNECTED; break;
    case ConnectionState::resuming:
    case ConnectionState::waiting: event.event = KWIND_EVENT_INTERRUPTED; break;
    case ConnectionState::connecting: return;
  }
  // Requests of the old connection have ended: their numbers mean nothing in the next one.
  if (was_connected || state == ConnectionState::resuming) messages.forget(0);
  if (code != Errc::none) event.content().text = host::explain_end(code, reason);
  messages.events().push(std::move(event));
}

// Handlers of the client put events into the queue, which kwind_client_next_event() empties.
void ClientObject::attach() {
  // Both handlers run within Client::step(), on the caller's thread.
  client->on_state([this](ConnectionState state, Errc code, std::string_view reason) {
    on_state(state, code, reason);
  });
  client->on_any([this](const route::RawMessage& message, schema::Layout& layout) {
    return messages.take(0, message, layout, false);
  });
}

// The world's tick rate is the server's, from the first snapshot on.
void ClientObject::attach_world(unsigned tick_rate) {
  ReplicatedWorldOptions options;
  options.playout.ticks_per_second = tick_rate;  // until the first snapshot
  world.emplace(*client, messages.protocol()->entities.info(), options);
  newest.resize(messages.description().entities.size());
  later.resize(messages.description().entities.size());
  copying.resize(messages.description().entities.size());
  // One value for each entity type, reused by each read.
  for (std::size_t i = 0; i < newest.size(); ++i) {
    newest[i] = later[i] =
        schema::initial_value(messages.description(), messages.description().entities[i].fields);
  }
  // The event holds the type's name and the reference; the fields are read when the caller asks
  // for them.
  world->on_any_event([this](const replica::EntityEvent& change) {
    QueuedEvent event;
    switch (change.type) {
      case replica::EntityEvent::Type::spawned: event.event = KWIND_EVENT_SPAWNED; break;
      case replica::EntityEvent::Type::updated: event.event = KWIND_EVENT_UPDATED; break;
      case replica::EntityEvent::Type::despawned: event.event = KWIND_EVENT_DESPAWNED; break;
    }
    event.entity = change.entity;
    event.type = entity_type(messages.description(), change.entity_type);
    messages.events().push(std::move(event));
  });
}

// Checks options that the C++ interface would assert.
kwind_result open(const Held<ProtocolObject>& protocol, const kwind_client_options& options,
                  kwind_client** out) {
  if (options.server == nullptr) return fail(KWIND_E_ARGUMENT, "the server's address is NULL");
  if (options.server_key == nullptr && options.plaintext == 0) {
    return fail(KWIND_E_ARGUMENT, "server_key is NULL; only plaintext needs none");
  }
  if (options.tick_rate > kMaxTickRate) {
    return fail(KWIND_E_ARGUMENT, fmt::format("tick_rate is 1 to {}", kMaxTickRate));
  }
  if (options.tick_rate > 0 && protocol->protocol.entities.empty()) {
    return fail(
        KWIND_E_DESCRIPTION,
        fmt::format("protocol {} has no entities; leave tick_rate at 0", protocol->protocol.name));
  }
  auto made = std::make_shared<ClientObject>(protocol.shared());
  ClientOptions chosen;
  chosen.server = options.server;
  if (options.server_key != nullptr) chosen.server_key = options.server_key;
  if (options.tcp_after_udp != 0) chosen.transports.push_back(link::TransportKind::stream);
  chosen.reconnect = options.only_once == 0;
  if (options.idle_timeout_ms > 0) {
    chosen.host.timeouts.idle_timeout = std::chrono::milliseconds(options.idle_timeout_ms);
  }
  if (options.ticket != nullptr) *made->ticket = options.ticket;
  // Shared: kwind_client_set_ticket() changes the text after the client has copied the function.
  chosen.ticket = [ticket = made->ticket] { return *ticket; };
  if (options.plaintext != 0) {
    // Plaintext is for tests on one machine.
    chosen.host.plaintext = host::Plaintext::loopback_only;
    const auto server = io::resolve(options.server);
    if (server && !server->is_loopback()) return from_errc(Errc::not_loopback);
  }
  auto opened = Client::open(made->messages.protocol()->tables.info(), chosen);
  if (!opened) {
    return fail(static_cast<kwind_result>(opened.error().code), opened.error().text);
  }
  made->client = std::move(*opened);
  made->attach();
  if (options.tick_rate > 0) made->attach_world(options.tick_rate);
  *out = handle_of<kwind_client>(add_object(std::move(made)));
  return KWIND_OK;
}

// A full queue of events is not stepped further: nothing that arrives is lost, it waits in its
// window.
kwind_result step(ClientObject& object, std::uint32_t wait_ms) {
  Client& client = *object.client;
  if (object.messages.events().full()) {
    client.flush(io::now());
    return KWIND_OK;
  }
  client.step(io::now());
  // Two steps: the first sends what is queued and the second receives what came during the wait.
  if (wait_ms == 0) return KWIND_OK;
  client.wait(std::chrono::milliseconds(wait_ms));
  client.step(io::now());
  return KWIND_OK;
}

// Locks the handle and runs; a stale handle is an error, not a crash.
template <class Use>
kwind_result with(const kwind_client* handle, const Use& use) {
  return call([&] {
    const Held<ClientObject> held(handle);
    return held ? use(*held) : held.result();
  });
}

// Checks that the value is of this client's protocol and of the right role.
template <class Use>
kwind_result with_message(const kwind_client* handle, const kwind_value* value,
                          schema::MessageRole role, const Use& use) {
  return with(handle, [&](ClientObject& object) {
    const Held<ValueObject> held(value);
    if (!held) return held.result();
    // The lock of the client is held before the lock of the value: always in this order.
    const auto checked = object.messages.check(*held, role);
    if (checked != KWIND_OK) return checked;
    if (!object.client->connected()) return from_errc(Errc::closed);
    return use(object, *held);
  });
}

// Functions of entities need a description that has some.
template <class Use>
kwind_result with_world(const kwind_client* handle, const Use& use) {
  return with(handle, [&](ClientObject& object) {
    if (!object.world) {
      return fail(KWIND_E_DESCRIPTION,
                  "the client was opened without a tick_rate: it has no world");
    }
    return use(object, *object.world);
  });
}

// The type of an entity that is there.
template <class Use>
kwind_result with_entity(const kwind_client* handle, kwind_ref entity, const Use& use) {
  return with_world(handle, [&](ClientObject& object, ReplicatedWorld& world) {
    const schema::AnyRef ref{entity.id, entity.generation};
    const auto type = world.client_world().type_of(ref);
    // A reference to an entity that despawned is an error that a game meets each day: it has a
    // code of its own.
    if (!type) {
      return fail(KWIND_E_NO_ENTITY, fmt::format("entity {}, generation {}, is not in view",
                                                 entity.id, entity.generation));
    }
    return use(object, ref, entity_type(object.messages.description(), *type));
  });
}

// The newest state, in the client's scratch value of the type.
schema::Value& read_newest(ClientObject& object, schema::AnyRef ref, const TypeName& type) {
  schema::Value& value = object.newest[type.index];
  object.world->client_world().read(ref, [&](schema::Decoder& in) {
    decode_value(object.messages.description(), *type.fields, in, value);
  });
  return value;
}

// The newest state into a struct of the caller. The first copy with a layout is checked member by
// member, and leaves a plan for the next ones.
kwind_result copy_newest(ClientObject& object, schema::AnyRef ref, const TypeName& type,
                         const kwind_layout* layout, void* out) {
  ClientObject::Copying& copying = object.copying[type.index];
  if (out != nullptr && copying.plan && copying.plan->is_of(layout)) {
    object.world->client_world().read(
        ref, [&](schema::Decoder& in) { copying.plan->run(in, static_cast<std::byte*>(out)); });
    return KWIND_OK;
  }
  const schema::Protocol& protocol = object.messages.description();
  const auto result = to_struct(protocol, type, read_newest(object, ref, type), layout, out);
  if (result == KWIND_OK && (copying.plan || copying.layout != layout)) {
    copying.layout = layout;
    copying.plan = StructPlan::make(protocol, type, *layout);
  }
  return result;
}

// The state at a tick, between those that are known around it.
schema::Value& read_sample(ClientObject& object, schema::AnyRef ref, const TypeName& type,
                           double tick) {
  const schema::Protocol& protocol = object.messages.description();
  schema::Value& from = object.newest[type.index];
  schema::Value& to = object.later[type.index];
  bool has_later = false;
  // The decoders are handed the bits of the tick before and of the one after.
  const double part = object.world->client_world().read_around(
      ref, tick, [&](schema::Decoder& in) { decode_value(protocol, *type.fields, in, from); },
      [&](schema::Decoder& in) {
        decode_value(protocol, *type.fields, in, to);
        has_later = true;
      });
  if (has_later) from = blended_entity(protocol, protocol.entities[type.index], from, to, part);
  return from;
}

// The value goes into an object that the caller made for this type.
kwind_result put_into(ClientObject& object, const TypeName& type, schema::Value& value,
                      kwind_value* out) {
  const Held<ValueObject> held(out);
  if (!held) return held.result();
  // Field numbers of two protocols mean different things.
  if (held->protocol != object.messages.protocol()) {
    return fail(KWIND_E_TYPE, "the value is of another kwind_protocol than the client");
  }
  if (held->is_of_event) return fail(KWIND_E_ARGUMENT, "the value of an event is to be read");
  held->become(type);
  held->value = value;
  return KWIND_OK;
}

}  // namespace
}  // namespace kwind::c

using kwind::Errc;
using kwind::c::ClientObject;
using kwind::c::from_errc;
using kwind::c::Held;
using kwind::c::ProtocolObject;
using kwind::c::ValueObject;
using kwind::c::with;
using kwind::c::with_entity;
using kwind::c::with_message;
using kwind::c::with_world;
using kwind::schema::MessageRole;

namespace {

// One text for all functions that write to `out`.
bool is_tick(double tick) {
  return tick >= 0 && tick < 4294967295.0;
}
kwind_result tick_is_wrong() {
  return kwind::c::fail(KWIND_E_ARGUMENT, "a tick is from 0 to 4294967294");
}
kwind_result out_is_null() {
  return kwind::c::fail(KWIND_E_ARGUMENT, "`out` is NULL");
}

}  // namespace

// Everything is copied from the options: they may go when this returns.
kwind_result kwind_client_open(kwind_protocol* protocol, const kwind_client_options* options,
                               kwind_client** out) {
  return kwind::c::call([&] {
    const Held<ProtocolObject> held(protocol);
    if (!held) return held.result();
    if (out == nullptr) return out_is_null();
    const auto sized =
        kwind::c::check_size(options, sizeof(kwind_client_options), sizeof(kwind_client_options));
    return sized == KWIND_OK ? kwind::c::open(held, *options, out) : sized;
  });
}

// Frees the object when no call uses it any more. To end the connection in order,
// kwind_client_close() comes first.
void kwind_client_free(kwind_client* client) {
  kwind::c::free_object<ClientObject>(client);
}

// Taken with the next attempt to connect: a ticket is good for one connection.
kwind_result kwind_client_set_ticket(kwind_client* client, const char* ticket) {
  return with(client, [&](ClientObject& object) {
    *object.ticket = ticket == nullptr ? "" : ticket;
    return kwind_result{KWIND_OK};
  });
}

// Sends, waits for at most `wait_ms`, and receives.
kwind_result kwind_client_step(kwind_client* client, uint32_t wait_ms) {
  return with(client, [&](ClientObject& object) { return kwind::c::step(object, wait_ms); });
}

// Values and texts of an event live until the next event is taken.
kwind_result kwind_client_next_event(kwind_client* client, kwind_event* out) {
  return with(client, [&](ClientObject& object) { return object.messages.events().pop(out); });
}

// 0 also for a stale handle: a question has no error code.
int kwind_client_connected(const kwind_client* client) {
  return kwind::c::call_or(0, [&] {
    const Held<ClientObject> held(client);
    return held && held->client->connected() ? 1 : 0;
  });
}

// Errors: KWIND_E_TYPE for a value of another role, the link's `closed` while there is no
// connection.
kwind_result kwind_client_send(kwind_client* client, const kwind_value* message) {
  return with_message(client, message, MessageRole::message,
                      [&](ClientObject& object, const ValueObject& value) {
                        return from_errc(object.client->send(object.messages.message(value)));
                      });
}

// The outcome comes as an event with this number, exactly once, also when the connection ends.
kwind_result kwind_client_request(kwind_client* client, const kwind_value* message,
                                  uint32_t timeout_ms, uint64_t* request) {
  return with_message(client, message, MessageRole::request,
                      [&](ClientObject& object, const ValueObject& value) {
                        const std::uint64_t number = object.messages.next_request();
                        const Errc error = object.client->request_any(
                            object.messages.message(value), std::chrono::milliseconds(timeout_ms),
                            object.messages.settle(number, 0, value.type.index));
                        if (error == Errc::none && request != nullptr) *request = number;
                        return from_errc(error);
                      });
}

// Answers a request of the server.
kwind_result kwind_client_reply(kwind_client* client, uint64_t request, const kwind_value* reply) {
  return with(client, [&](ClientObject& object) {
    const Held<ValueObject> held(reply);
    if (!held) return held.result();
    return object.messages.reply(request, *held, [&](const auto& open, const auto& answer) {
      return object.client->answer(open.number, answer);
    });
  });
}

// The reason is one of those that the description lists for the request.
kwind_result kwind_client_refuse(kwind_client* client, uint64_t request, const char* reason,
                                 const char* words) {
  return with(client, [&](ClientObject& object) {
    return object.messages.refuse(request, reason, words,
                                  [&](const auto& open, const auto& answer) {
                                    return object.client->answer(open.number, answer);
                                  });
  });
}

// The caller steps on until KWIND_EVENT_DISCONNECTED, so that reliable messages are delivered.
kwind_result kwind_client_close(kwind_client* client, const char* reason) {
  return with(client, [&](ClientObject& object) {
    object.client->close(reason == nullptr ? "" : reason);
    return kwind_result{KWIND_OK};
  });
}

kwind_result kwind_client_stats(kwind_client* client, kwind_stats* out) {
  return with(client, [&](ClientObject& object) {
    const auto sized = kwind::c::check_size(out, sizeof(kwind_stats), sizeof(kwind_stats));
    if (sized != KWIND_OK) return sized;
    const kwind::link::Stats& stats = object.client->stats();
    kwind_stats made = KWIND_STATS_INIT;
    made.connections = object.client->connected() ? 1 : 0;
    kwind::c::add_traffic(object.client->traffic(), object.client->counts(), made);
    made.round_trip_seconds = std::chrono::duration<double>(stats.smoothed_rtt).count();
    // Loss is the share of datagrams in the last seconds, 0 to 1.
    made.loss = stats.loss;
    *out = made;
    return kwind_result{KWIND_OK};
  });
}

// Inputs travel repeatedly until they are acknowledged, so their size is limited.
kwind_result kwind_client_input(kwind_client* client, const kwind_value* input, uint32_t* number) {
  return with_world(client, [&](ClientObject& object, kwind::ReplicatedWorld& world) {
    const Held<ValueObject> held(input);
    if (!held) return held.result();
    const auto checked = object.messages.check(*held, MessageRole::message);
    if (checked != KWIND_OK) return checked;
    if (!object.client->connected()) return from_errc(Errc::closed);
    const auto size =
        kwind::schema::size_in_any_version(object.messages.description(), *held->type.fields);
    // An input must fit beside others into one datagram.
    if (size.max_bits > kwind::replica::PackedInput::kMaxBits) {
      return from_errc(Errc::message_too_large);
    }
    const std::uint32_t made = world.send_input(object.messages.message(*held));
    if (number != nullptr) *number = made;
    return kwind_result{KWIND_OK};
  });
}

// The newest input that the newest snapshot includes: predictions replay those after it.
kwind_result kwind_client_processed_input(kwind_client* client, uint32_t* out) {
  return with_world(client, [&](ClientObject&, kwind::ReplicatedWorld& world) {
    if (out == nullptr) return out_is_null();
    *out = world.last_processed_input();
    return kwind_result{KWIND_OK};
  });
}

// `shown` lies behind `newest` by the playout delay, and has a fraction between two ticks.
kwind_result kwind_client_tick(kwind_client* client, uint32_t* newest, double* shown) {
  return with_world(client, [&](ClientObject&, kwind::ReplicatedWorld& world) {
    const auto tick = world.playout_tick(kwind::io::now());
    if (!tick) return kwind::c::fail(KWIND_E_EMPTY, "no snapshot has come yet");
    if (newest != nullptr) *newest = world.tick();
    if (shown != nullptr) *shown = *tick;
    return kwind_result{KWIND_OK};
  });
}

// With a capacity that is too small the caller gets the first ones, and the number of all.
kwind_result kwind_client_entities(kwind_client* client, kwind_ref* out, size_t capacity,
                                   size_t* count) {
  return with_world(client, [&](ClientObject&, kwind::ReplicatedWorld& world) {
    if (count == nullptr || (out == nullptr && capacity > 0)) return out_is_null();
    const auto all = world.client_world().entities();
    // Those that fit; `count` is the number of all, so that the caller can ask again with room.
    for (std::size_t i = 0; i < std::min(capacity, all.size()); ++i) {
      out[i] = {all[i].id, all[i].generation};
    }
    *count = all.size();
    return kwind_result{KWIND_OK};
  });
}

// The name is the protocol's and lives as long as the client.
kwind_result kwind_client_entity_type(kwind_client* client, kwind_ref entity, const char** out) {
  return with_entity(client, entity, [&](ClientObject&, auto, const kwind::c::TypeName& type) {
    if (out == nullptr) return out_is_null();
    *out = type.name->c_str();
    return kwind_result{KWIND_OK};
  });
}

// Whether the server sends this client the fields that are `owner only`.
kwind_result kwind_client_owns(kwind_client* client, kwind_ref entity, int* out) {
  return with_entity(client, entity, [&](ClientObject& object, auto ref, const auto&) {
    if (out == nullptr) return out_is_null();
    *out = object.world->client_world().owns(ref) ? 1 : 0;
    return kwind_result{KWIND_OK};
  });
}

kwind_result kwind_client_state_tick(kwind_client* client, kwind_ref entity, uint32_t* out) {
  return with_entity(client, entity, [&](ClientObject& object, auto ref, const auto&) {
    if (out == nullptr) return out_is_null();
    *out = object.world->client_world().state_tick(ref);
    return kwind_result{KWIND_OK};
  });
}

kwind_result kwind_client_get(kwind_client* client, kwind_ref entity, kwind_value* out) {
  return with_entity(client, entity, [&](ClientObject& object, auto ref, const auto& type) {
    return put_into(object, type, read_newest(object, ref, type), out);
  });
}

kwind_result kwind_client_sample(kwind_client* client, kwind_ref entity, double tick,
                                 kwind_value* out) {
  return with_entity(client, entity, [&](ClientObject& object, auto ref, const auto& type) {
    if (!is_tick(tick)) return tick_is_wrong();
    return put_into(object, type, read_sample(object, ref, type, tick), out);
  });
}

kwind_result kwind_client_position(kwind_client* client, kwind_ref entity, double tick,
                                   const char* field, double* out) {
  return with_entity(client, entity, [&](ClientObject& object, auto ref, const auto& type) {
    if (out == nullptr) return out_is_null();
    if (!is_tick(tick)) return tick_is_wrong();
    const std::string_view name = field != nullptr ? field : "";
    const auto position = object.world->client_world().position(ref, tick, name);
    if (position) {
      std::copy(position->begin(), position->end(), out);
      return kwind_result{KWIND_OK};
    }
    const bool has_position =
        std::any_of(type.fields->begin(), type.fields->end(), [&](const auto& each) {
          using kwind::schema::TypeKind;
          const bool is_numbers = each.type.kind == TypeKind::vec &&
                                  (each.type.element.front().kind == TypeKind::real ||
                                   each.type.element.front().kind == TypeKind::integer);
          return each.name == name && (is_numbers || each.type.kind == TypeKind::record);
        });
    if (!has_position) {
      return kwind::c::fail(
          KWIND_E_ARGUMENT,
          fmt::format("{} has no position `{}`; name a field that is a vec2 or vec3 of numbers",
                      *type.name, name));
    }
    return kwind::c::fail(
        KWIND_E_NO_ENTITY,
        fmt::format("{} is attached to an entity that is not in view", *type.name));
  });
}

kwind_result kwind_client_get_struct(kwind_client* client, kwind_ref entity,
                                     const kwind_layout* layout, void* out) {
  return with_entity(client, entity, [&](ClientObject& object, auto ref, const auto& type) {
    return copy_newest(object, ref, type, layout, out);
  });
}

kwind_result kwind_client_sample_struct(kwind_client* client, kwind_ref entity, double tick,
                                        const kwind_layout* layout, void* out) {
  return with_entity(client, entity, [&](ClientObject& object, auto ref, const auto& type) {
    if (!is_tick(tick)) return tick_is_wrong();
    return to_struct(object.messages.description(), type, read_sample(object, ref, type, tick),
                     layout, out);
  });
}
