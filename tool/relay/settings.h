// What a relay does, as its settings file states it. Every setting has a default; what is wrong in
// a file is reported with line, key and what would be right.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "kwind/schema/protocol.h"

namespace kwind::relay {

enum class To : std::uint8_t { others, room, everyone, nobody };
enum class Keep : std::uint8_t {
  no,
  sender,  ///< the last of each sender, while it is in the room
  room,    ///< the last of anybody, while the room exists
};

/// What becomes of one kind of message.
struct Rule {
  To to = To::others;
  std::size_t as = 0;                   ///< the kind that receivers get
  std::optional<std::size_t> sender{};  ///< the field of it that gets the sender's number
  std::optional<std::size_t> enters{};  ///< the field that names the room which the sender enters
  Keep keep = Keep::no;
  schema::Value start{};  ///< fields that the message does not have itself
  std::vector<std::pair<std::size_t, std::size_t>> copied{};  ///< fields: from, to
};

enum class Log : std::uint8_t { quiet, events, messages };

struct Settings {
  std::string description;  ///< a .kw file; empty: opaque bytes
  std::string listen = "127.0.0.1:4000";
  std::string key_file;
  bool plaintext = false;
  std::size_t max_clients = 64;
  double resume_seconds = 30;
  Log log = Log::events;

  std::string ticket_key;             ///< a file: tickets are asked for
  std::string password;               ///< asked for; empty: not
  std::vector<std::string> banned{};  ///< subjects of tickets, and addresses without port

  std::string first_room = "lobby";
  std::vector<std::string> further_rooms{};
  bool any_room = false;
  std::size_t max_rooms = 256;

  std::size_t messages_per_tick = 64;
  std::size_t bytes_per_tick = 65536;
  double ticks_per_second = 30;
  unsigned max_faults = 20;
  std::size_t queue_messages = 4096;
  bool drop_slow = false;  ///< close who does not read, instead of leaving messages out

  std::optional<std::size_t> say_type{};
  std::optional<std::size_t> say_field{};
  std::vector<std::optional<Rule>> rules{};  ///< by kind
  std::optional<Rule> joining{};
  std::optional<Rule> leaving{};
  std::optional<Rule> welcome{};
};

/// The description that clients of a relay for opaque bytes use.
extern const char* const kOpaqueDescription;
/// Its rules, as a settings file has them.
extern const char* const kOpaqueRules;

struct ReadSettings {
  Settings settings;
  std::vector<std::string> problems;  ///< each with place and line shown
};

/// The settings without the rules, which need the description first.
ReadSettings read_settings(const std::string& file, const std::string& text);
/// The rules of `text` for `protocol`, into `to`. Kinds that travel both ways and have no rule go
/// to the others of the room. Opaque bytes have kOpaqueRules if `text` states none.
std::vector<std::string> read_rules(const std::string& file, const std::string& text,
                                    const schema::Protocol& protocol, Settings& to);

/// A complete settings file with every default and a remark on each; with a protocol, whose file is
/// `description`, a rule for each of its message types.
std::string settings_text(const schema::Protocol* protocol, const std::string& description);

/// Names of settings that differ and take effect with the next start only.
std::vector<std::string> fixed_changes(const Settings& now, const Settings& wanted);

}  // namespace kwind::relay
