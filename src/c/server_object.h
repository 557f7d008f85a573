// A server of the C interface behind its handle, and how calls reach it: server.cpp has messages,
// server_world.cpp the replicated world. One thread at a time, see handles.h.
#pragma once
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "c/host.h"
#include "kwind/server.h"

namespace kwind::c {

inline Peer peer_of(std::uint32_t number) {
  return static_cast<Peer>(number);
}
inline std::uint32_t number_of(Peer peer) {
  return static_cast<std::uint32_t>(peer);
}

struct ServerObject final : Object {
  static constexpr ObjectType kType = ObjectType::server;
  explicit ServerObject(const std::shared_ptr<ProtocolObject>& protocol)
      : Object(kType), messages(protocol, schema::Direction::from_server) {}

  void attach();
  void attach_world(const kwind_server_options& options, std::optional<std::size_t> input);
  Errc take(Peer peer, const route::RawMessage& message, schema::Layout& layout);

  // In this order: events of the server's end still go into the queue.
  Messages messages;
  std::unique_ptr<Server> server;
  std::optional<Replication> state;
  std::optional<std::size_t> input_type;
  std::string public_key;
  std::vector<std::string> addresses;
};

// Locks the handle and runs; a stale handle is an error, not a crash.
template <class Use>
kwind_result with(const kwind_server* handle, const Use& use) {
  return call([&] {
    const Held<ServerObject> held(handle);
    return held ? use(*held) : held.result();
  });
}

// Functions of entities need a description that has some.
template <class Use>
kwind_result with_world(const kwind_server* handle, const Use& use) {
  return with(handle, [&](ServerObject& object) {
    if (!object.state) {
      return fail(KWIND_E_DESCRIPTION,
                  "the server was opened without a tick_rate: it has no world");
    }
    return use(object, *object.state);
  });
}

// Runs use(view) for a peer's view.
template <class Use>
kwind_result with_view(const kwind_server* handle, std::uint32_t peer, const Use& use) {
  return with_world(handle, [&](ServerObject& object, Replication& state) {
    ClientView* const view = state.view(peer_of(peer));
    if (view == nullptr) return from_errc(Errc::no_such_peer);
    return use(object, *view);
  });
}

}  // namespace kwind::c
