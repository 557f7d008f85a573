// An entity of a description that is known at run time only, for World and ClientWorld in tests.
#pragma once
#include <vector>

#include "kwind/schema/columns.h"
#include "kwind/schema/protocol.h"
#include "kwind/schema/runtime.h"

namespace kwind::kit {

/// Stands for the entity kind that was chosen last: World and ClientWorld take the kind from the
/// type.
struct AnyEntity {
  static void choose(const schema::Protocol& protocol, const schema::EntitiesInfo& infos,
                     std::size_t kind) {
    chosen_protocol = &protocol;
    chosen = &protocol.entities[kind];
    chosen_info = infos.types[kind];
  }
  static const schema::EntityInfo& entity_info() { return *chosen_info; }

  schema::Value value{};
  // What ClientWorld::sample() puts between.
  schema::Value to{};
  double part = 0;

  static inline const schema::Protocol* chosen_protocol = nullptr;
  static inline const schema::Entity* chosen = nullptr;
  static inline const schema::EntityInfo* chosen_info = nullptr;
};

template <class Mark>
void encode_columns(schema::Encoder& out, const AnyEntity& entity, const Mark& mark) {
  encode_columns(*AnyEntity::chosen_protocol, *AnyEntity::chosen, entity.value, out, mark);
}
inline void decode(schema::Decoder& in, AnyEntity& entity) {
  decode_value(*AnyEntity::chosen_protocol, AnyEntity::chosen->fields, in, entity.value);
}
inline AnyEntity blend(const AnyEntity& from, const AnyEntity& to, double part) {
  return {from.value, to.value, part};
}

}  // namespace kwind::kit
