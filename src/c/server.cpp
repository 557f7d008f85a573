// The server of the C interface: a kwind::Server and, if wanted, its Replication, whose handlers
// fill a queue of events.
//
// As client.cpp, with the tick beside it: the caller reads KWIND_EVENT_TICK between two steps,
// sets its entities, and the next step sends them. A server that misses a tick gets one event for
// it, not several.
#include <algorithm>
#include <optional>

#include "c/server_object.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"

namespace kwind::c {

// Handlers of the server put events into the queue.
void ServerObject::attach() {
  // C has no handlers: each event waits until kwind_server_next_event() takes it.
  const auto event = [this](kwind_event_type of, Peer peer, Errc error = Errc::none,
                            std::string text = {}) {
    QueuedEvent made;
    made.event = of;
    made.peer = number_of(peer);
    made.error = error;
    if (!text.empty()) made.content().text = std::move(text);
    messages.events().push(std::move(made));
  };
  server->on_connect([event](Peer peer) { event(KWIND_EVENT_CONNECTED, peer); });
  server->on_resume([this, event](Peer peer) {
    messages.forget(number_of(peer));
    event(KWIND_EVENT_RESUMED, peer);
  });
  // The peer's number stays valid in events that wait; functions that are given it answer "no such
  // peer".
  server->on_disconnect([this, event](Peer peer, Errc code, std::string_view reason) {
    messages.forget(number_of(peer));
    event(KWIND_EVENT_DISCONNECTED, peer, code, host::explain_end(code, reason));
  });
  server->on_any([this](Peer peer, const route::RawMessage& message, schema::Layout& layout) {
    return take(peer, message, layout);
  });
}

// Messages with an owner's field are checked here, as the C++ dispatcher does.
Errc ServerObject::take(Peer peer, const route::RawMessage& message, schema::Layout& layout) {
  // Only one type of message is the input, named in the options.
  const bool is_input = input_type == std::size_t{message.info.type};
  // An input that is sent as a message would be a second one in its tick.
  if (is_input && !state->takes_input()) return Errc::not_allowed;
  if (!message.info.owner_field.empty()) {
    const auto& fields = messages.description().messages[message.info.type].fields;
    // Decoded for the owner's field alone, in a layout of its own: the event's value is decoded by
    // messages.take().
    schema::Layout look = layout;
    schema::Value value;
    const Errc error =
        decode(messages.description(), message_type(messages.description(), message.info.type),
               message.fields, look, value);
    if (error != Errc::none) return error;
    const schema::AnyRef entity = ref_of(fields, message.info.owner_field, value);
    // Ownership is the server's own knowledge: what a client claims does not matter.
    if (!server->owners().owns(peer, entity)) return Errc::not_owner;
  }
  return messages.take(number_of(peer), message, layout, is_input);
}

// The tick is the caller's: between two calls of step(), when KWIND_EVENT_TICK was read.
void ServerObject::attach_world(const kwind_server_options& options,
                                std::optional<std::size_t> input) {
  ReplicationOptions made;
  made.tick_rate = options.tick_rate;
  // The caller sets its entities after the tick's event, before the next step() sends them.
  made.tick_between_receive_and_flush = true;
  // Zero means the default, for each number of the options.
  if (options.datagrams_per_tick > 0) made.datagrams_per_tick = options.datagrams_per_tick;
  if (options.position_field != nullptr) made.view.place = options.position_field;
  // Interest by distance if a distance is set, else all entities are always relevant.
  if (options.view_enter > 0) {
    made.view.enter = options.view_enter;
    made.view.leave = std::max(options.view_leave, options.view_enter);
  } else {
    for (const schema::Entity& entity : messages.description().entities) {
      made.view.types.push_back({.type = entity.name, .always = true});
    }
  }
  state.emplace(*server, messages.protocol()->entities.info(), made);
  input_type = input;
  if (input) state->take_inputs_of(messages.protocol()->tables.info().messages[*input]);
  state->on_tick([this](std::uint32_t tick) {
    QueuedEvent event;
    event.event = KWIND_EVENT_TICK;
    event.tick = tick;
    messages.events().push(std::move(event));
  });
}

namespace {

// ---- opening ----

// The message type of the inputs. Errors: KWIND_E_NAME, KWIND_E_TYPE.
kwind_result find_input(const schema::Protocol& protocol, const char* name,
                        std::optional<std::size_t>& out) {
  if (name == nullptr) return KWIND_OK;
  const auto named = find_type(protocol, name);
  if (!named) {
    return fail(KWIND_E_NAME, fmt::format("protocol {} has no message `{}`", protocol.name, name));
  }
  const bool is_message =
      named->role == Role::message &&
      protocol.messages[named->index].role == schema::MessageRole::message &&
      protocol.messages[named->index].direction != schema::Direction::from_server;
  if (!is_message) {
    return fail(KWIND_E_TYPE, fmt::format("{} is no message that a client sends", name));
  }
  if (schema::size_in_any_version(protocol, *named->fields).max_bits >
      replica::PackedInput::kMaxBits) {
    return fail(KWIND_E_TYPE, fmt::format("{} has more than {} bits, the most of an input", name,
                                          replica::PackedInput::kMaxBits));
  }
  out = named->index;
  return KWIND_OK;
}

// Checks options that the C++ interface would assert.
kwind_result check_options(const schema::Protocol& protocol, const kwind_server_options& options) {
  if (options.capacity > 65535) return fail(KWIND_E_ARGUMENT, "capacity is 1 to 65535");
  if (options.tick_rate > kMaxTickRate) {
    return fail(KWIND_E_ARGUMENT, fmt::format("tick_rate is 1 to {}", kMaxTickRate));
  }
  // Written so that NaN is refused as well.
  if (!(options.view_enter >= 0 && options.view_enter < 1e12 && options.view_leave >= 0 &&
        options.view_leave < 1e12)) {
    return fail(KWIND_E_ARGUMENT, "view distances are from 0 to 1e12");
  }
  if (options.tick_rate > 0 && protocol.entities.empty()) {
    return fail(KWIND_E_DESCRIPTION,
                fmt::format("protocol {} has no entities; leave tick_rate at 0", protocol.name));
  }
  if (options.listen == nullptr && options.listen_count > 0) {
    return fail(KWIND_E_ARGUMENT, "listen is NULL, and listen_count is not 0");
  }
  // Each address, so that the error names the wrong one.
  for (std::size_t i = 0; i < options.listen_count; ++i) {
    if (options.listen[i] == nullptr) {
      return fail(KWIND_E_ARGUMENT, fmt::format("listen[{}] is NULL", i));
    }
  }
  return KWIND_OK;
}

// Plaintext is for this machine alone.
kwind_result check_loopback(const std::vector<std::string>& listen) {
  for (std::string_view text : listen) {
    // A prefix names the kind of transport.
    if (text.starts_with("tcp:") || text.starts_with("udp:")) text.remove_prefix(4);
    const auto address = io::resolve(text);
    if (address && !address->is_loopback()) return from_errc(Errc::not_loopback);
  }
  return KWIND_OK;
}

// Addresses that cannot be listened on are named in the error.
kwind_result open(const Held<ProtocolObject>& protocol, const kwind_server_options& options,
                  kwind_server** out) {
  if (const auto result = check_options(protocol->protocol, options); result != KWIND_OK) {
    return result;
  }
  std::optional<std::size_t> input;
  const auto found = find_input(protocol->protocol, options.input, input);
  if (found != KWIND_OK) return found;
  if (input && options.tick_rate == 0) {
    return fail(KWIND_E_ARGUMENT, "an input needs a tick_rate");
  }

  // The server shares the protocol: its handle may be freed before the server's.
  auto made = std::make_shared<ServerObject>(protocol.shared());
  ServerOptions chosen;
  // Addresses are copied: the caller's array may go when this returns.
  if (options.listen_count > 0) {
    chosen.listen.assign(options.listen, options.listen + options.listen_count);
  }
  if (options.secret_key_file != nullptr) chosen.secret_key_file = options.secret_key_file;
  if (options.capacity > 0) chosen.capacity = options.capacity;
  chosen.host.resume = std::chrono::seconds(options.resume_seconds);
  if (options.plaintext != 0) {
    chosen.host.plaintext = host::Plaintext::loopback_only;
    if (const auto result = check_loopback(chosen.listen); result != KWIND_OK) return result;
  }
  auto opened = Server::open(made->messages.protocol()->tables.info(), chosen);
  if (!opened) {
    return fail(static_cast<kwind_result>(opened.error().code), opened.error().text);
  }
  made->server = std::move(*opened);
  made->public_key = made->server->public_key();
  // The addresses after binding.
  for (std::size_t i = 0; i < chosen.listen.size(); ++i) {
    made->addresses.push_back(made->server->address(i).text());
  }
  made->attach();
  if (options.tick_rate > 0) made->attach_world(options, input);
  *out = handle_of<kwind_server>(add_object(std::move(made)));
  return KWIND_OK;
}

// Sends what the caller has set since the last call, waits, then receives.
kwind_result step(ServerObject& object, std::uint32_t wait_ms) {
  Server& server = *object.server;
  // Flush first: what the caller did since the last step goes out before the wait.
  const Time start = io::now();
  server.flush(start);
  // A full queue of events is not filled further: what arrives waits in its window.
  if (object.messages.events().full()) return KWIND_OK;
  if (wait_ms > 0) server.wait(std::chrono::milliseconds(wait_ms));
  server.receive(io::now());
  return KWIND_OK;
}

// Locks two objects: the host and a value of its protocol.
template <class Use>
kwind_result with_message(const kwind_server* handle, const kwind_value* value,
                          schema::MessageRole role, const Use& use) {
  return with(handle, [&](ServerObject& object) {
    const Held<ValueObject> held(value);
    if (!held) return held.result();
    const auto checked = object.messages.check(*held, role);
    return checked == KWIND_OK ? use(object, *held) : checked;
  });
}

template <class Act>
kwind_result with_rooms_of(kwind_server* server, std::uint32_t peer, const char* room,
                           const Act& act) {
  return with(server, [&](ServerObject& object) {
    if (room == nullptr) return fail(KWIND_E_ARGUMENT, "the room is NULL");
    // A room has members that exist, and no others.
    if (object.server->slot(peer_of(peer)) == 0) return from_errc(Errc::no_such_peer);
    act(object.server->rooms());
    return kwind_result{KWIND_OK};
  });
}

}  // namespace
}  // namespace kwind::c

using kwind::Errc;
using kwind::c::from_errc;
using kwind::c::Held;
using kwind::c::ProtocolObject;
using kwind::c::ServerObject;
using kwind::c::ValueObject;
using kwind::c::with;
using kwind::c::with_message;
using kwind::c::with_view;
using kwind::c::with_world;
using kwind::schema::MessageRole;

// Each function of the interface is a call(): a C++ exception becomes an error code with a text.
kwind_result kwind_server_open(kwind_protocol* protocol, const kwind_server_options* options,
                               kwind_server** out) {
  return kwind::c::call([&] {
    const Held<ProtocolObject> held(protocol);
    if (!held) return held.result();
    if (out == nullptr) return kwind::c::fail(KWIND_E_ARGUMENT, "`out` is NULL");
    const auto sized =
        kwind::c::check_size(options, sizeof(kwind_server_options), sizeof(kwind_server_options));
    return sized == KWIND_OK ? kwind::c::open(held, *options, out) : sized;
  });
}

// Frees the object when no call uses it any more; the handle is stale from now on.
void kwind_server_free(kwind_server* server) {
  kwind::c::free_object<ServerObject>(server);
}

// Holds the lock of the object while it waits: other calls wait as well, but for wake().
kwind_result kwind_server_step(kwind_server* server, uint32_t wait_ms) {
  return with(server, [&](ServerObject& object) { return kwind::c::step(object, wait_ms); });
}

// Ends the wait of a step() in another thread.
kwind_result kwind_server_wake(kwind_server* server) {
  return kwind::c::call([&] {
    // Not locked: a step() in another thread holds the lock, and wake() is safe from any thread.
    const auto found = kwind::c::find_object(reinterpret_cast<std::uintptr_t>(server));
    if (found == nullptr || found->type != kwind::c::ObjectType::server) {
      return kwind::c::fail(KWIND_E_HANDLE, "this is no handle of a server");
    }
    static_cast<ServerObject&>(*found).server->wake();
    return kwind_result{KWIND_OK};
  });
}

// Values and texts of an event live until the next event is taken.
kwind_result kwind_server_next_event(kwind_server* server, kwind_event* out) {
  return with(server, [&](ServerObject& object) { return object.messages.events().pop(out); });
}

// The text is the object's and lives as long as the object. Port 0 has been replaced by the port
// that the system chose.
kwind_result kwind_server_address(kwind_server* server, size_t index, const char** out) {
  return with(server, [&](ServerObject& object) {
    if (out == nullptr || index >= object.addresses.size()) {
      return kwind::c::fail(KWIND_E_ARGUMENT,
                            fmt::format("the server has {} addresses", object.addresses.size()));
    }
    *out = object.addresses[index].c_str();
    return kwind_result{KWIND_OK};
  });
}

// The text that clients need as `server_key`; it lives as long as the object.
kwind_result kwind_server_public_key(kwind_server* server, const char** out) {
  return with(server, [&](ServerObject& object) {
    if (out == nullptr) return kwind::c::fail(KWIND_E_ARGUMENT, "`out` is NULL");
    *out = object.public_key.c_str();
    return kwind_result{KWIND_OK};
  });
}

// Slots are small numbers that are used again; peers are never used again.
kwind_result kwind_server_slot(kwind_server* server, uint32_t peer, uint32_t* out) {
  return with(server, [&](ServerObject& object) {
    if (out == nullptr) return kwind::c::fail(KWIND_E_ARGUMENT, "`out` is NULL");
    const std::uint32_t slot = object.server->slot(kwind::c::peer_of(peer));
    if (slot == 0) return from_errc(Errc::no_such_peer);
    *out = slot;
    return kwind_result{KWIND_OK};
  });
}

// The value is encoded here: the caller may change or free it afterwards.
kwind_result kwind_server_send(kwind_server* server, uint32_t peer, const kwind_value* message) {
  return with_message(
      server, message, MessageRole::message, [&](ServerObject& object, const ValueObject& value) {
        return from_errc(
            object.server->send(kwind::c::peer_of(peer), object.messages.message(value)));
      });
}

// Encoded once for all clients. Peer 0 leaves nobody out.
kwind_result kwind_server_send_all(kwind_server* server, uint32_t left_out,
                                   const kwind_value* message, size_t* sent) {
  return with_message(server, message, MessageRole::message,
                      [&](ServerObject& object, const ValueObject& value) {
                        const std::size_t count = object.server->send_to_all_but(
                            kwind::c::peer_of(left_out), object.messages.message(value));
                        if (sent != nullptr) *sent = count;
                        return kwind_result{KWIND_OK};
                      });
}

// A room without members is no error: it takes no message.
kwind_result kwind_server_send_room(kwind_server* server, const char* room, uint32_t left_out,
                                    const kwind_value* message, size_t* sent) {
  return with_message(server, message, MessageRole::message,
                      [&](ServerObject& object, const ValueObject& value) {
                        if (room == nullptr)
                          return kwind::c::fail(KWIND_E_ARGUMENT, "the room is NULL");
                        const std::size_t count = object.server->send_to_room_but(
                            room, kwind::c::peer_of(left_out), object.messages.message(value));
                        if (sent != nullptr) *sent = count;
                        return kwind_result{KWIND_OK};
                      });
}

// Rooms exist while they have members. To enter a room twice changes nothing.
kwind_result kwind_server_enter_room(kwind_server* server, uint32_t peer, const char* room) {
  return kwind::c::with_rooms_of(server, peer, room,
                                 [&](auto& rooms) { rooms.enter(kwind::c::peer_of(peer), room); });
}

// A client that ends leaves its rooms by itself.
kwind_result kwind_server_leave_room(kwind_server* server, uint32_t peer, const char* room) {
  return kwind::c::with_rooms_of(server, peer, room,
                                 [&](auto& rooms) { rooms.leave(kwind::c::peer_of(peer), room); });
}

// A request is answered once: the number is of no use afterwards.
kwind_result kwind_server_reply(kwind_server* server, uint64_t request, const kwind_value* reply) {
  return with(server, [&](ServerObject& object) {
    const Held<ValueObject> held(reply);
    if (!held) return held.result();
    return object.messages.reply(request, *held, [&](const auto& open, const auto& answer) {
      return object.server->answer(kwind::c::peer_of(open.peer), open.number, answer);
    });
  });
}

// The reason is one of those that the description lists for the request.
kwind_result kwind_server_refuse(kwind_server* server, uint64_t request, const char* reason,
                                 const char* words) {
  return with(server, [&](ServerObject& object) {
    return object.messages.refuse(
        request, reason, words, [&](const auto& open, const auto& answer) {
          return object.server->answer(kwind::c::peer_of(open.peer), open.number, answer);
        });
  });
}

// The outcome comes as an event with this number, exactly once.
kwind_result kwind_server_request(kwind_server* server, uint32_t peer, const kwind_value* message,
                                  uint32_t timeout_ms, uint64_t* request) {
  return with_message(
      server, message, MessageRole::request, [&](ServerObject& object, const ValueObject& value) {
        const std::uint64_t number = object.messages.next_request();
        const Errc error =
            object.server->request_any(kwind::c::peer_of(peer), object.messages.message(value),
                                       std::chrono::milliseconds(timeout_ms),
                                       object.messages.settle(number, peer, value.type.index));
        if (error == Errc::none && request != nullptr) *request = number;
        return from_errc(error);
      });
}

// Reliable messages that were sent before are delivered first.
kwind_result kwind_server_close(kwind_server* server, uint32_t peer, const char* reason) {
  return with(server, [&](ServerObject& object) {
    if (object.server->slot(kwind::c::peer_of(peer)) == 0) return from_errc(Errc::no_such_peer);
    object.server->close(kwind::c::peer_of(peer), reason == nullptr ? "" : reason);
    return kwind_result{KWIND_OK};
  });
}

// The caller steps on until the clients are gone, or frees the server at once.
kwind_result kwind_server_close_all(kwind_server* server, const char* reason) {
  return with(server, [&](ServerObject& object) {
    object.server->close_all(reason == nullptr ? "" : reason);
    return kwind_result{KWIND_OK};
  });
}

// The struct's size is checked before anything is written to it.
kwind_result kwind_server_stats(kwind_server* server, kwind_stats* out) {
  return with(server, [&](ServerObject& object) {
    const auto sized = kwind::c::check_size(out, sizeof(kwind_stats), sizeof(kwind_stats));
    if (sized != KWIND_OK) return sized;
    kwind_stats made = KWIND_STATS_INIT;
    kwind::c::add_traffic(object.server->traffic(), object.server->counts(), made);
    made.connections = static_cast<std::uint32_t>(object.server->peers().size());
    if (object.state) made.values_out_of_range += object.state->world().out_of_range();
    *out = made;
    return kwind_result{KWIND_OK};
  });
}
