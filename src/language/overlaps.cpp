// Life spans are half-open intervals of versions. Two declarations that depend on each other must
// have a version in common, and what is named must be alive wherever it is named.
#include "language/overlaps.h"

#include <fmt/format.h>

#include <algorithm>

namespace kwind::language {
namespace {

using schema::Field;
using schema::Life;
using schema::Type;
using schema::TypeKind;

// The versions of both life spans; nothing if there are none.
std::optional<Life> common(const Life& a, const Life& b) {
  Life both{std::max(a.since, b.since), a.until};
  if (b.until != 0 && (both.until == 0 || b.until < both.until)) both.until = b.until;
  if (both.until != 0 && both.until <= both.since) return std::nullopt;
  return both;
}

// Whether `whole` has every version of `part`. An end of 0 is no end.
bool covers(const Life& whole, const Life& part) {
  // `until` names the first version without the declaration.
  const bool ends = whole.until == 0 || (part.until != 0 && part.until <= whole.until);
  return whole.since <= part.since && ends;
}

class Overlaps {
 public:
  Overlaps(const schema::Protocol& protocol, Reporter& reporter)
      : protocol_(protocol), reporter_(reporter) {}

  // Fields of messages and their answers.
  void message(const MessageSyntax& syntax) {
    const auto found = named(protocol_.messages, syntax.name.text);
    if (found == nullptr) return;
    fields(syntax.fields, found->fields, found->name, found->life);
    if (syntax.request) {
      const auto reply = named(protocol_.records, found->name + "Reply");
      if (reply != nullptr) fields(syntax.reply, reply->fields, found->name, found->life);
    }
    if (syntax.owner.kind == TokenKind::end) return;
    const Field* owned = named(found->fields, found->owner_field);
    // A version with the message and without its owner's field would let anybody send it.
    if (owned != nullptr && !covers(owned->life, found->life)) {
      reporter_.error(syntax.owner,
                      fmt::format("some version has `{}` and not its `{}`, so that nobody's right "
                                  "could be checked; give both the same `since` and `until`",
                                  found->name, owned->name));
    }
  }

  // Fields of entities, whose types have lives of their own. Where a version lacks a speed or a
  // direction nothing follows; without a carrier the same numbers would be another position.
  void entity(const EntitySyntax& syntax) {
    const auto found = named(protocol_.entities, syntax.name.text);
    if (found == nullptr) return;
    fields(syntax.fields, found->fields, found->name, found->life);
    for (const FieldSyntax& each : syntax.fields) {
      if (!each.relative) continue;
      const Field* attached = named(found->fields, each.name.text);
      const Field* carrier = named(found->fields, each.carrier.text);
      if (attached == nullptr || carrier == nullptr || covers(carrier->life, attached->life)) {
        continue;
      }
      reporter_.error(each.carrier,
                      fmt::format("some version has `{}` and not the `{}` that it needs; give both "
                                  "the same `since` and `until`",
                                  attached->name, carrier->name));
    }
  }

  // A record has no life of its own: it exists wherever a field has it.
  void record(const RecordSyntax& syntax) {
    const auto found = named(protocol_.records, syntax.name.text);
    if (found != nullptr) defaults(syntax.fields, found->fields);
  }

 private:
  // nullptr if the name was reported before and left out.
  template <class Named>
  static const Named* named(const std::vector<Named>& all, std::string_view name) {
    const auto found =
        std::find_if(all.begin(), all.end(), [&](const Named& each) { return each.name == name; });
    return found == all.end() ? nullptr : &*found;
  }

  // A field must not outlive a type that it uses.
  void fields(const std::vector<FieldSyntax>& syntax, const std::vector<Field>& made,
              const std::string& of, const Life& life) {
    defaults(syntax, made);
    for (const FieldSyntax& each : syntax) {
      const Field* field = named(made, each.name.text);
      if (field == nullptr || field->words.local != schema::Local::no) continue;
      const auto both = common(life, field->life);
      if (!both) {
        reporter_.error(
            each.name,
            fmt::format("`{}` would live in no version: it is{}, and `{}` is{}", field->name,
                        schema::life_text(field->life, " "), of, schema::life_text(life, " ")));
        continue;
      }
      if (const auto missing = missing_entity(field->type, *both)) {
        const schema::Entity& entity = protocol_.entities[*missing];
        reporter_.error(each.name,
                        fmt::format("some version has this `ref {0}` and no `{0}`, which is{1}; "
                                    "give the field the same `since` and `until`",
                                    entity.name, schema::life_text(entity.life, " ")));
      }
    }
  }

  // A default must exist in every version in which the field exists.
  void defaults(const std::vector<FieldSyntax>& syntax, const std::vector<Field>& made) {
    for (const FieldSyntax& each : syntax) {
      const Field* field = named(made, each.name.text);
      if (field == nullptr || !field->written_default ||
          field->type.kind != TypeKind::enumeration) {
        continue;
      }
      const auto& options = protocol_.enums[field->type.index].options;
      const auto at = static_cast<std::size_t>(field->written_default->whole);
      // Only the newest version makes new values; older ones are sent a stand-in.
      if (at >= options.size() || options[at].life.alive(protocol_.version)) continue;
      if (!field->life.alive(protocol_.version)) continue;
      reporter_.error(each.name, fmt::format("the default `{}` is not in the newest version; name "
                                             "another value",
                                             options[at].name));
    }
  }

  // The index of an entity that `type` refers to in versions without that entity.
  std::optional<std::size_t> missing_entity(const Type& type, const Life& life) const {
    switch (type.kind) {
      case TypeKind::ref:
        if (type.index >= protocol_.entities.size()) return std::nullopt;
        if (covers(protocol_.entities[type.index].life, life)) return std::nullopt;
        return type.index;
      case TypeKind::record: {
        for (const Field& field : protocol_.records[type.index].fields) {
          const auto both = common(life, field.life);
          if (!both) continue;
          if (const auto missing = missing_entity(field.type, *both)) return missing;
        }
        return std::nullopt;
      }
      case TypeKind::one_of:
        for (const schema::Option& option : protocol_.one_ofs[type.index].options) {
          const auto both = common(life, option.life);
          if (!both || option.type.empty()) continue;
          if (const auto missing = missing_entity(option.type.front(), *both)) return missing;
        }
        return std::nullopt;
      default:
        return type.element.empty() ? std::nullopt : missing_entity(type.element.front(), life);
    }
  }

  const schema::Protocol& protocol_;
  Reporter& reporter_;
};

}  // namespace

// After resolving: all lives are known then.
void check_overlaps(const schema::Protocol& protocol, const FileSyntax& file, Reporter& reporter) {
  Overlaps overlaps(protocol, reporter);
  for (const RecordSyntax& each : file.records) overlaps.record(each);
  for (const MessageSyntax& each : file.messages) overlaps.message(each);
  for (const EntitySyntax& each : file.entities_declared) overlaps.entity(each);
}

}  // namespace kwind::language
