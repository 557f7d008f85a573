// The tables of a protocol that is known at run time only, as generated code has them; and a
// message of it that can be sent like a generated one. Plain values; safe anywhere.
#pragma once
#include <deque>
#include <string>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/schema/codec.h"
#include "kwind/schema/info.h"
#include "kwind/schema/protocol.h"
#include "kwind/schema/runtime.h"

namespace kwind::schema {

/// Owns the tables of a protocol that is known at run time.
class KWIND_API Tables {
 public:
  /// `protocol` must outlive the tables, and neither moves.
  explicit Tables(const Protocol& protocol);
  Tables(const Tables&) = delete;
  Tables& operator=(const Tables&) = delete;

  [[nodiscard]] const ProtocolInfo& info() const { return info_; }
  [[nodiscard]] const Protocol& protocol() const { return *protocol_; }

 private:
  const Protocol* protocol_;
  std::deque<std::string> texts_;
  std::vector<VersionInfo> versions_;
  std::vector<ChannelInfo> channels_;
  std::deque<std::vector<FieldInfo>> fields_;
  std::vector<MessageInfo> messages_;
  std::vector<DeclarationInfo> declarations_;
  ProtocolInfo info_{};
};

/// A message of one of the kinds of `tables`, to be sent wherever a generated struct may be.
/// Borrows; `value` has the shape of the kind's fields.
class KWIND_API AnyMessage {
 public:
  AnyMessage(const Tables& tables, std::size_t kind, const Value& value)
      : tables_(&tables), kind_(kind), value_(&value) {}
  AnyMessage(const Tables& tables, std::size_t kind, Value&& value) = delete;  // it would be gone
  [[nodiscard]] const MessageInfo& info() const { return tables_->info().messages[kind_]; }
  friend void encode(Encoder& out, const AnyMessage& message) {
    const Protocol& protocol = message.tables_->protocol();
    encode_value(protocol, protocol.messages[message.kind_].fields, *message.value_, out);
  }

 private:
  const Tables* tables_;
  std::size_t kind_;
  const Value* value_;
};

/// The value of the ref field `name` of a message; none if it has no such field.
[[nodiscard]] KWIND_API AnyRef ref_of(const std::vector<Field>& fields, std::string_view name,
                                      const Value& value);

}  // namespace kwind::schema
