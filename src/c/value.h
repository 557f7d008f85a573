// Values of the C interface: the fields of a message, entity or record, reached by paths.
#pragma once
#include <memory>
#include <string>
#include <string_view>

#include "c/protocol.h"
#include "kwind/schema/value.h"

namespace kwind::c {

struct ValueObject final : Object {
  static constexpr ObjectType kType = ObjectType::value;
  ValueObject(std::shared_ptr<ProtocolObject> of, const TypeName& named)
      : Object(kType), protocol(std::move(of)), type(named) {
    reset();
  }
  void reset() { value = schema::initial_value(protocol->protocol, *type.fields); }
  /// Makes it a value of another type of the same protocol. Its fields keep nothing.
  void become(const TypeName& named) {
    if (named == type) return;
    type = named;
    reset();
  }

  std::shared_ptr<ProtocolObject> protocol;
  TypeName type;
  schema::Value value;
  bool is_of_event = false;  ///< the library's own: the program must not free it, or write to it
};

/// A value of `type` into a struct. Errors: those of kwind_value_to_struct().
kwind_result to_struct(const schema::Protocol& protocol, const TypeName& type,
                       const schema::Value& value, const kwind_layout* layout, void* out);
/// The other way. `value` has the shape of `type`.
kwind_result from_struct(const schema::Protocol& protocol, const TypeName& type,
                         const kwind_layout* layout, const void* in, schema::Value& value);

}  // namespace kwind::c
