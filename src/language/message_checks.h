// What a message as a whole must keep: who may send it, in which versions, how large it may be.
// Composed by the resolver. Pure.
#pragma once
#include "language/reporter.h"
#include "language/syntax.h"

namespace kwind::language {

/// `from owner of FIELD` names a ref of the message; sets made.owner_field.
void check_authority(const MessageSyntax& syntax, schema::MessageType& made, Reporter& reporter);

/// The channel exists in each version that the message does.
void check_channel_life(const schema::Protocol& protocol, const MessageSyntax& syntax,
                        const schema::MessageType& made, Reporter& reporter);

/// A datagram, or the most that is split. `leaves`: its fields with all records spelled out.
void check_message_size(const schema::Protocol& protocol, const Token& place,
                        const schema::MessageType& made, std::uint64_t leaves, Reporter& reporter);

}  // namespace kwind::language
