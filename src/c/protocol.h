// A compiled description of the C interface: the protocol as data, with the tables that hosts and
// worlds need. Constant once made; servers, clients and values share it.
#pragma once
#include <memory>
#include <optional>
#include <string_view>

#include "c/handles.h"
#include "kwind/schema/columns.h"
#include "kwind/schema/protocol.h"
#include "kwind/schema/tables.h"

namespace kwind::c {

struct ProtocolObject final : Object {
  static constexpr ObjectType kType = ObjectType::protocol;
  explicit ProtocolObject(schema::Protocol made)
      : Object(kType), protocol(std::move(made)), tables(protocol), entities(protocol) {}

  const schema::Protocol protocol;
  const schema::Tables tables;
  const schema::EntityTables entities;
};

/// What a value can be a value of.
enum class Role : std::uint8_t { message, entity, record };

/// A message type, an entity type or a record of a protocol.
struct TypeName {
  Role role = Role::message;
  std::size_t index = 0;  ///< in Protocol::messages, entities or records
  const std::string* name = nullptr;
  const std::vector<schema::Field>* fields = nullptr;

  friend bool operator==(const TypeName& a, const TypeName& b) { return a.name == b.name; }
};

TypeName message_type(const schema::Protocol& protocol, std::size_t index);
TypeName entity_type(const schema::Protocol& protocol, std::size_t index);
TypeName record_type(const schema::Protocol& protocol, std::size_t index);
/// Nothing if the protocol has no such name.
std::optional<TypeName> find_type(const schema::Protocol& protocol, std::string_view name);

}  // namespace kwind::c
