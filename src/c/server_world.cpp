// The replicated world of a server of the C interface: entities, and what each client sees.
#include "c/server_object.h"

namespace kwind::c {
namespace {

// References of C have the same two numbers as those of C++.
schema::AnyRef any_ref(kwind_ref entity) {
  return {entity.id, entity.generation};
}
kwind_result no_entity(kwind_ref entity) {
  return fail(KWIND_E_NO_ENTITY,
              fmt::format("there is no entity {}, generation {}", entity.id, entity.generation));
}

// The value is encoded by the run-time codec; a value out of range is named.
kwind_result spawn(ServerObject& object, Replication& state, const ValueObject& value,
                   kwind_ref* out) {
  const ProtocolObject& protocol = *object.messages.protocol();
  if (value.protocol != object.messages.protocol() || value.type.role != Role::entity) {
    return fail(KWIND_E_TYPE,
                fmt::format("{} is no entity of this server's protocol", *value.type.name));
  }
  const schema::Entity& type = protocol.protocol.entities[value.type.index];
  const auto made =
      state.world().spawn_encoded(*protocol.entities.info().types[value.type.index],
                                  [&](schema::Encoder& to, const auto& mark) {
                                    encode_columns(protocol.protocol, type, value.value, to, mark);
                                  });
  if (!made) {
    return fail(KWIND_E_TOO_MANY, fmt::format("the world has all of its {} entities",
                                              protocol.protocol.entities_up_to));
  }
  *out = {made->id, made->generation};
  return KWIND_OK;
}

// The value must be of the entity's type.
kwind_result set(ServerObject& object, Replication& state, kwind_ref entity,
                 const ValueObject& value) {
  const ProtocolObject& protocol = *object.messages.protocol();
  const schema::EntityInfo* const type = state.world().type_of(any_ref(entity));
  if (type == nullptr) return no_entity(entity);
  if (value.protocol != object.messages.protocol() || value.type.role != Role::entity ||
      value.type.index != type->type) {
    return fail(KWIND_E_TYPE,
                fmt::format("the entity is a {}, the value is a {}", type->name, *value.type.name));
  }
  const schema::Entity& description = protocol.protocol.entities[type->type];
  state.world().put_encoded(any_ref(entity), [&](schema::Encoder& to, const auto& mark) {
    encode_columns(protocol.protocol, description, value.value, to, mark);
  });
  return KWIND_OK;
}

}  // namespace
}  // namespace kwind::c

using kwind::c::Held;
using kwind::c::ServerObject;
using kwind::c::ValueObject;
using kwind::c::with_view;
using kwind::c::with_world;

// The entity appears to clients in the next tick.
kwind_result kwind_server_spawn(kwind_server* server, const kwind_value* entity, kwind_ref* out) {
  return with_world(server, [&](ServerObject& object, kwind::Replication& state) {
    const Held<ValueObject> held(entity);
    if (!held) return held.result();
    if (out == nullptr) return kwind::c::fail(KWIND_E_ARGUMENT, "`out` is NULL");
    return kwind::c::spawn(object, state, *held, out);
  });
}

// All fields are set; clients are sent those that changed.
kwind_result kwind_server_set(kwind_server* server, kwind_ref entity, const kwind_value* state) {
  return with_world(server, [&](ServerObject& object, kwind::Replication& world) {
    const Held<ValueObject> held(state);
    if (!held) return held.result();
    return kwind::c::set(object, world, entity, *held);
  });
}

// The reference is stale from now on, also when its id is used again: the generation differs.
kwind_result kwind_server_despawn(kwind_server* server, kwind_ref entity) {
  return with_world(server, [&](ServerObject&, kwind::Replication& state) {
    if (!state.world().despawn(kwind::c::any_ref(entity))) return kwind::c::no_entity(entity);
    return kwind_result{KWIND_OK};
  });
}

// A room is the one of kwind_server_enter_room().
kwind_result kwind_server_put_in_room(kwind_server* server, kwind_ref entity, const char* room) {
  return with_world(server, [&](ServerObject&, kwind::Replication& state) {
    const auto ref = kwind::c::any_ref(entity);
    const bool done = room == nullptr ? state.take_out_of_room(ref) : state.put_in_room(ref, room);
    return done ? kwind_result{KWIND_OK} : kwind::c::no_entity(entity);
  });
}

// The client sees what is around the entity, and owns it.
kwind_result kwind_server_follow(kwind_server* server, uint32_t peer, kwind_ref entity) {
  return with_view(server, peer, [&](ServerObject& object, kwind::ClientView& view) {
    if (!object.state->world().is_alive(kwind::c::any_ref(entity))) {
      return kwind::c::no_entity(entity);
    }
    view.follow(kwind::c::any_ref(entity));
    object.server->owners().give(kwind::c::any_ref(entity), kwind::c::peer_of(peer));
    return kwind_result{KWIND_OK};
  });
}

// A fixed place to see from, in place of an entity.
kwind_result kwind_server_set_origin(kwind_server* server, uint32_t peer, double x, double y,
                                     double z) {
  return with_view(server, peer, [&](ServerObject&, kwind::ClientView& view) {
    view.set_origin(x, y, z);
    return kwind_result{KWIND_OK};
  });
}

// The owner sees the fields that are `owner only`, and may send messages in the entity's name.
kwind_result kwind_server_set_owned(kwind_server* server, uint32_t peer, kwind_ref entity,
                                    int owned) {
  return with_view(server, peer, [&](ServerObject& object, kwind::ClientView& view) {
    const auto ref = kwind::c::any_ref(entity);
    if (!object.state->world().is_alive(ref)) return kwind::c::no_entity(entity);
    if (owned != 0) {
      view.add_owned(ref);
      object.server->owners().give(ref, kwind::c::peer_of(peer));
    } else {
      view.remove_owned(ref);
      object.server->owners().take(ref);
    }
    return kwind_result{KWIND_OK};
  });
}
