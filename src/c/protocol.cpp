// Descriptions: compiled from text when the program runs.
#include "c/protocol.h"

#include <map>
#include <string>

#include "kwind/language/compile.h"

namespace kwind::c {

TypeName message_type(const schema::Protocol& protocol, std::size_t index) {
  const schema::MessageType& type = protocol.messages[index];
  return {Role::message, index, &type.name, &type.fields};
}
TypeName entity_type(const schema::Protocol& protocol, std::size_t index) {
  const schema::Entity& type = protocol.entities[index];
  return {Role::entity, index, &type.name, &type.fields};
}
TypeName record_type(const schema::Protocol& protocol, std::size_t index) {
  const schema::Record& type = protocol.records[index];
  return {Role::record, index, &type.name, &type.fields};
}

// Messages, answers, entities and records by name.
std::optional<TypeName> find_type(const schema::Protocol& protocol, std::string_view name) {
  for (std::size_t i = 0; i < protocol.messages.size(); ++i) {
    if (protocol.messages[i].name == name) return message_type(protocol, i);
  }
  for (std::size_t i = 0; i < protocol.entities.size(); ++i) {
    if (protocol.entities[i].name == name) return entity_type(protocol, i);
  }
  for (std::size_t i = 0; i < protocol.records.size(); ++i) {
    if (protocol.records[i].name == name) return record_type(protocol, i);
  }
  return std::nullopt;
}

namespace {

// Compiles texts that the caller holds in memory; includes are looked up by name among them.
kwind_result compile(const kwind_source* sources, std::size_t count, kwind_protocol** out) {
  if (sources == nullptr || out == nullptr || count == 0) {
    return fail(KWIND_E_ARGUMENT, "kwind_protocol_compile wants at least one source, and `out`");
  }
  std::map<std::string, std::string> files;
  for (std::size_t i = 0; i < count; ++i) {
    if (sources[i].name == nullptr || sources[i].text == nullptr) {
      return fail(KWIND_E_ARGUMENT, fmt::format("name or text of source {} is NULL", i));
    }
    files[sources[i].name] = sources[i].text;
  }
  const auto compiled = language::compile(
      sources[0].text, sources[0].name, [&](const std::string& name) -> std::optional<std::string> {
        const auto found = files.find(name);
        return found == files.end() ? std::nullopt : std::optional(found->second);
      });
  if (!compiled.ok()) {
    std::string all;
    for (const auto& error : compiled.errors) {
      all += language::render(error, compiled);
      all += '\n';
    }
    return fail(KWIND_E_DESCRIPTION, all);
  }
  *out = handle_of<kwind_protocol>(add_object(std::make_shared<ProtocolObject>(compiled.protocol)));
  return KWIND_OK;
}

}  // namespace
}  // namespace kwind::c

using kwind::c::Held;
using kwind::c::ProtocolObject;

kwind_result kwind_protocol_compile(const kwind_source* sources, size_t count,
                                    kwind_protocol** out) {
  return kwind::c::call([&] { return kwind::c::compile(sources, count, out); });
}

void kwind_protocol_free(kwind_protocol* protocol) {
  kwind::c::free_object<ProtocolObject>(protocol);
}

// "" for a stale handle.
const char* kwind_protocol_name(const kwind_protocol* protocol) {
  return kwind::c::call_or<const char*>("", [&] {
    const Held<ProtocolObject> held(protocol);
    return held ? held->protocol.name.c_str() : "";
  });
}

// 0 for a stale handle.
uint32_t kwind_protocol_version(const kwind_protocol* protocol) {
  return kwind::c::call_or<std::uint32_t>(0, [&] {
    const Held<ProtocolObject> held(protocol);
    return held ? std::uint32_t{held->protocol.version} : 0;
  });
}
