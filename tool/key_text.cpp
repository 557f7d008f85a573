// Keys and tickets from the command line or from files.
#include "key_text.h"

#include <fmt/format.h>

#include "generate.h"
#include "kwind/link/spec.h"

namespace kwind::tool {

std::string text_or_file(const std::string& given) {
  std::string text;
  if (!read_text(given, text)) text = given;
  while (!text.empty() && std::isspace(static_cast<unsigned char>(text.back())) != 0) {
    text.pop_back();
  }
  return text;
}

bool take_ticket(const char* command, const std::string& given, bool plaintext,
                 std::string& ticket) {
  if (given.empty()) return true;
  if (plaintext) {
    fmt::print(stderr,
               "kwind {}: --ticket goes with --server-key; a ticket travels only encrypted\n",
               command);
    return false;
  }
  ticket = text_or_file(given);
  if (ticket.size() <= link::kMaxTicketBytes) return true;
  fmt::print(stderr, "kwind {}: --ticket: {} bytes; a ticket has at most {}\n", command,
             ticket.size(), link::kMaxTicketBytes);
  return false;
}

std::optional<link::PublicKey> public_key_of(const std::string& given) {
  const auto key = link::parse_public_key(text_or_file(given));
  if (key) return *key;
  fmt::print(
      stderr,
      "--server-key {}: {}; give it, or a file that holds it, as server.pub of `kwind keys`\n",
      given, error_info(key.error()).text);
  return std::nullopt;
}

std::optional<link::KeyPair> key_pair_of(const std::string& file) {
  std::string text;
  if (!read_text(file, text)) {
    fmt::print(stderr, "{}: cannot read the file; `kwind keys` writes server.key\n", file);
    return std::nullopt;
  }
  const auto secret = link::parse_secret_key(text_or_file(file));
  if (secret) return link::KeyPair::from_secret(*secret);
  fmt::print(stderr, "{}: {}; `kwind keys` writes server.key\n", file,
             error_info(secret.error()).text);
  return std::nullopt;
}

}  // namespace kwind::tool
