// What stands behind a field's type: its default, and the words of entity fields. Composed by the
// resolver. Pure.
#pragma once
#include "language/reporter.h"
#include "language/syntax.h"

namespace kwind::language {

/// The written default, if the type can hold exactly that; an error otherwise.
std::optional<schema::Value> default_of(const schema::Protocol& protocol,
                                        const DefaultSyntax& syntax, const schema::Type& type,
                                        Reporter& reporter);

/// The words of one field of an entity, held against each other.
void entity_words(const FieldSyntax& syntax, schema::Field& field, Reporter& reporter);
/// Outside of entities none of them means anything.
void refuse_entity_words(const FieldSyntax& syntax, Reporter& reporter);

/// `follow` and `smooth` need fields of the right types. `fields` may lack some of `syntax`.
void check_follow(const schema::Protocol& protocol, const std::vector<FieldSyntax>& syntax,
                  std::vector<schema::Field>& fields, Reporter& reporter);

/// `relative to` needs a reference to an entity that has such a field. Requires: the fields of all
/// entities are known.
void check_attachments(const schema::Protocol& protocol, const std::vector<FieldSyntax>& syntax,
                       const schema::Entity& entity, Reporter& reporter);

}  // namespace kwind::language
