// `kwind ticket`: issues, checks and shows tickets.
#include <fmt/chrono.h>
#include <fmt/format.h>

#include <ctime>
#include <memory>
#include <nlohmann/json.hpp>
#include <set>
#include <string>

#include "commands.h"
#include "kwind/core/printable.h"
#include "kwind/io/clock.h"
#include "kwind/json/text.h"
#include "kwind/link/spec.h"
#include "kwind/ticket/ticket.h"

namespace kwind::tool {
namespace {

struct TicketArguments {
  std::string key;
  std::string server;
  std::string subject;
  std::string id;
  std::string claims = "{}";
  std::string ticket;
  std::int64_t seconds = 300;
  bool json = false;
};

// Without blanks at the end: files end with a line break.
std::string trimmed(std::string text) {
  while (!text.empty() && std::isspace(static_cast<unsigned char>(text.back())) != 0) {
    text.pop_back();
  }
  return text;
}

// The key itself, or a file that holds it.
bool server_key(const std::string& given, std::string& text) {
  text = given;
  if (link::parse_public_key(text)) return true;
  if (read_text(given, text) && link::parse_public_key(text = trimmed(text))) return true;
  fmt::print(
      stderr,
      "--server-key {}: neither a public key (43 characters) nor a file with one; `kwind keys` "
      "writes server.pub\n",
      given);
  return false;
}

// Reads a key file; a sentence says what is wrong with it.
template <class Key>
std::optional<Key> ticket_key(const std::string& file, Result<Key> (*parse)(std::string_view)) {
  std::string text;
  if (!read_text(file, text)) {
    fmt::print(stderr, "{}: cannot read the file; check its name and permissions\n", file);
    return std::nullopt;
  }
  const auto key = parse(trimmed(text));
  if (key) return *key;
  fmt::print(stderr,
             "{}: not a{} Ed25519 key as JSON Web Key; `kwind keys` writes ticket.key and "
             "ticket.pub\n",
             file, std::is_same_v<Key, ticket::SigningKey> ? " private" : "n");
  return std::nullopt;
}

std::int64_t now_unix() {
  return io::unix_now();
}

// A time as seconds since 1970, and how far away it is.
std::string when(std::int64_t unix, std::int64_t now) {
  const std::int64_t left = unix - now;
  std::string text = fmt::format("{} ", unix);
  if (unix < 253402300800) {  // years of four digits
    text = fmt::format("{:%Y-%m-%d %H:%M:%S} UTC", fmt::gmtime(static_cast<std::time_t>(unix)));
  }
  return text + (left >= 0 ? fmt::format(", in {} s", left) : fmt::format(", {} s ago", -left));
}

// The ticket's fields, or all of it as JSON.
void print_ticket(const ticket::Ticket& ticket, bool json) {
  if (json) {
    fmt::print("{}\n", json::text_of(json::parse_text(ticket.app).value(), 2));
    return;
  }
  const std::int64_t now = now_unix();
  fmt::print("subject    {}\nid         {}\nexpires    {}\n", ticket.subject, ticket.id,
             when(ticket.expires, now));
  if (ticket.not_before != 0) fmt::print("not before {}\n", when(ticket.not_before, now));
  if (ticket.issued != 0) fmt::print("issued     {}\n", when(ticket.issued, now));
  fmt::print("audience   {}\n", ticket.audience);
  const auto claims = json::parse_text(ticket.app).value();
  for (const auto& [name, value] : claims.items()) {
    static const std::set<std::string> kShown = {"sub", "jti", "exp", "nbf", "iat", "aud"};
    if (kShown.contains(name)) continue;
    fmt::print("{:<10} {}\n", name, json::text_of(value));
  }
}

// Signs a ticket; without --id a random one is made.
int issue(const TicketArguments& arguments) {
  for (const auto& [option, text] :
       {std::pair("--subject", &arguments.subject), std::pair("--id", &arguments.id)}) {
    if (valid_utf8_prefix(*text, text->size()) == text->size()) continue;
    fmt::print(stderr, "kwind ticket: {}: is no UTF-8\n", option);
    return kUsedWrongly;
  }
  if (arguments.subject.empty()) {
    fmt::print(stderr, "kwind ticket: --subject: say who it is; it may not be empty\n");
    return kUsedWrongly;
  }
  const auto key = ticket_key<ticket::SigningKey>(arguments.key, ticket::signing_key_from_jwk);
  ticket::Ticket ticket;
  if (!key || !server_key(arguments.server, ticket.audience)) return kFoundWrong;
  ticket.subject = arguments.subject;
  ticket.id = arguments.id;
  if (ticket.id.empty()) {
    const Key128 random = io::entropy();
    ticket.id = to_hex(random, random.size());
  }
  ticket.issued = now_unix();
  ticket.expires = ticket.issued + arguments.seconds;
  ticket.app = arguments.claims;
  const auto text = ticket::issue(ticket, *key);
  if (!text) {
    if (text.error() == Errc::message_too_large) {
      fmt::print(stderr, "the ticket would be longer than {} bytes; shorten --claims\n",
                 link::kMaxTicketBytes);
    } else {
      fmt::print(stderr,
                 "--claims {}: must be a JSON object without sub, jti, exp, nbf, iat and aud\n",
                 arguments.claims);
    }
    return kFoundWrong;
  }
  fmt::print("{}\n", *text);
  return kFine;
}

// Verifies signature, audience and expiry; exit code 1 if any is wrong.
int check(const TicketArguments& arguments) {
  const auto key = ticket_key<ticket::VerifyKey>(arguments.key, ticket::verify_key_from_jwk);
  std::string audience;
  if (!key || !server_key(arguments.server, audience)) return kFoundWrong;
  const auto claims = ticket::check(arguments.ticket, *key, audience, now_unix());
  if (claims) {
    print_ticket(*ticket::read_unchecked(arguments.ticket), arguments.json);
    return kFine;
  }
  // What of it is wrong, as far as that can be told.
  const auto read = ticket::read_unchecked(arguments.ticket);
  std::string why;
  if (!read) {
    why = "it is no JSON Web Token of three parts";
  } else if (claims.error() == Errc::ticket_expired) {
    const bool early = now_unix() < read->not_before;
    why = early ? "it is not valid before " + when(read->not_before, now_unix())
                : "it expired: " + when(read->expires, now_unix());
  } else if (read->audience != audience) {
    why = fmt::format("it is for the server {}, or for none", read->audience);
  } else {
    why = "its signature is not of this key, its algorithm is not EdDSA, or a claim is missing";
  }
  fmt::print(stderr, "{}: {}\n", error_info(claims.error()).text, why);
  return kFoundWrong;
}

// Shows the fields without verifying anything, and says so.
int show(const TicketArguments& arguments) {
  const auto ticket = ticket::read_unchecked(arguments.ticket);
  if (!ticket) {
    fmt::print(stderr, "not a JSON Web Token of three parts, or longer than {} bytes\n",
               link::kMaxTicketBytes);
    return kFoundWrong;
  }
  print_ticket(*ticket, arguments.json);
  if (!arguments.json) fmt::print("nobody checked who signed it; `kwind ticket check` does\n");
  return kFine;
}

}  // namespace

// The options of `kwind ticket`.
void add_ticket(Command app, std::function<int()>& chosen) {
  Command command =
      app.add_subcommand("ticket", "Issue, check and show tickets (JSON Web Tokens, EdDSA)");
  command.require_subcommand(1);
  command.footer(
      "Example:\n  kwind ticket issue --ticket-key ticket.key --server-key server.pub --subject "
      "\"pilot 7\"\n"
      "  kwind ticket check --ticket-key ticket.pub --server-key server.pub TICKET");
  const auto run = [&chosen](Command part, const std::shared_ptr<TicketArguments>& arguments,
                             int (*work)(const TicketArguments&)) {
    part.callback(
        [arguments, work, &chosen] { chosen = [arguments, work] { return work(*arguments); }; });
  };

  auto issuing = std::make_shared<TicketArguments>();
  Command part = command.add_subcommand("issue", "Sign a ticket and print it");
  part.add_option("--ticket-key", issuing->key, "Private ticket key (ticket.key)")
      .required()
      .type_name("FILE");
  part.add_option("--server-key", issuing->server, "Public key of the server, or its file")
      .required()
      .type_name("KEY|FILE");
  part.add_option("--subject", issuing->subject, "Who it is").required();
  part.add_option("--id", issuing->id, "Id of the ticket; random unless given");
  part.add_option("--for", issuing->seconds, "Seconds until it expires")
      .range(1, 31536000)
      .capture_default_str();
  part.add_option("--claims", issuing->claims, "More claims, a JSON object")
      .type_name("JSON")
      .capture_default_str();
  run(part, issuing, issue);

  auto checking = std::make_shared<TicketArguments>();
  part = command.add_subcommand("check", "Check all of a ticket; exit code 1 if it is refused");
  part.add_option("--ticket-key", checking->key, "Public ticket key (ticket.pub)")
      .required()
      .type_name("FILE");
  part.add_option("--server-key", checking->server, "Public key of the server, or its file")
      .required()
      .type_name("KEY|FILE");
  part.add_option("TICKET", checking->ticket).required();
  part.add_flag("--json", checking->json, "Print the claims as JSON");
  run(part, checking, check);

  auto showing = std::make_shared<TicketArguments>();
  part = command.add_subcommand("show", "Show what a ticket says, unchecked");
  part.add_option("TICKET", showing->ticket).required();
  part.add_flag("--json", showing->json, "Print the claims as JSON");
  run(part, showing, show);
}

}  // namespace kwind::tool
