// Keys and tickets as commands take them: as text, or as a file that holds it. What is wrong with
// one is said on stderr.
#pragma once
#include <optional>
#include <string>

#include "kwind/link/keys.h"

namespace kwind::tool {

/// The text itself, or the contents of the file of that name, without blanks around.
std::string text_or_file(const std::string& given);

/// What `--ticket` of `kwind COMMAND` gives, to send to a server. False, with a sentence on stderr,
/// if it is too long, or would travel in plaintext.
bool take_ticket(const char* command, const std::string& given, bool plaintext,
                 std::string& ticket);
/// A server's public key.
std::optional<link::PublicKey> public_key_of(const std::string& given);
/// The key pair whose secret half is in `file`, server.key of `kwind keys`.
std::optional<link::KeyPair> key_pair_of(const std::string& file);

}  // namespace kwind::tool
