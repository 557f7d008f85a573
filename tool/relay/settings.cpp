// Reads a relay's settings from TOML. A file is taken whole or not at all: reading goes on after a
// problem, so that one run shows all of them, and a relay that runs keeps what it had.
#include "relay/settings.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>

#include "kwind/bits/nearest.h"
#include "kwind/budget/toml_text.h"
#include "kwind/json/line.h"
#include "kwind/language/compile.h"
#include "kwind/link/spec.h"

namespace kwind::relay {

const char* const kOpaqueDescription =
    R"kw(# What clients of `kwind relay` say when it relays opaque bytes.
protocol opaque 1

quantity Client = int 0..65535  # a client's number, filled in by the relay; 0 to it

channel ordered    ordered
channel reliable   reliable
channel sequenced  sequenced
channel unreliable unreliable

message Ordered    from both on ordered    { from : Client, bytes : bytes 1000 }
message Reliable   from both on reliable   { from : Client, bytes : bytes 1000 }
message Sequenced  from both on sequenced  { from : Client, bytes : bytes 1000 }
message Unreliable from both on unreliable { from : Client, bytes : bytes 1000 }

# Who one is oneself; who is in the room, comes and goes; what the operator of the relay says.
message Welcome from server on ordered { you : Client }
message Joined  from server on ordered { who : Client }
message Left    from server on ordered { who : Client }
message Told    from server on ordered { words : text 400 }

# Goes to another room.
message Enter from client on ordered { room : text 64 }
)kw";

const char* const kOpaqueRules = R"([say]
message = "Told"
field = "words"

[welcome]
as = "Welcome"
sender = "you"

[joining]
to = "others"
as = "Joined"
sender = "who"
keep = "sender"

[leaving]
to = "others"
as = "Left"
sender = "who"

[messages.Ordered]
to = "others"
sender = "from"

[messages.Reliable]
to = "others"
sender = "from"

[messages.Sequenced]
to = "others"
sender = "from"

[messages.Unreliable]
to = "others"
sender = "from"

[messages.Enter]
to = "nobody"
enters = "room"
)";

namespace {

using schema::Direction;
using schema::Protocol;
using schema::TypeKind;

class Reader {
 public:
  Reader(const std::string& file, const std::string& text) {
    shown_.files.push_back({file, text});
    auto parsed = budget::parse_toml(shown_.files.front().text);
    if (parsed) {
      root_ = std::move(*parsed);
    } else {
      problem(parsed.error().place, parsed.error().text);
    }
  }
  std::vector<std::string> problems;

  // The settings that do not depend on the description. After a syntax error nothing else is
  // reported: the places of other problems would be guesses.
  Settings settings() {
    Settings made;
    if (!problems.empty()) return made;
    known(root_,
          {"description", "listen", "key_file", "plaintext", "max_clients", "resume_seconds", "log",
           "admission", "rooms", "limits", "say", "welcome", "joining", "leaving", "messages"});
    made.description = text(root_, "description", made.description);
    made.listen = text(root_, "listen", made.listen);
    made.key_file = text(root_, "key_file", made.key_file);
    made.plaintext = yes_or_no(root_, "plaintext", made.plaintext);
    if (made.plaintext && !made.key_file.empty()) {
      problem(root_.get("key_file")->source(),
              "`plaintext` encrypts nothing; leave `key_file` out");
    }
    made.max_clients = whole(root_, "max_clients", 1, 65535, made.max_clients);
    made.resume_seconds = number(root_, "resume_seconds", 0, 64800, made.resume_seconds);
    made.log = choice<Log>(root_, "log", {"quiet", "events", "messages"}, made.log);
    if (const auto* table = section(root_, "admission")) admission(*table, made);
    if (const auto* table = section(root_, "rooms")) rooms(*table, made);
    if (const auto* table = section(root_, "limits")) limits(*table, made);
    return made;
  }

  // [admission]: tickets or a password, never both. Either needs encryption, because both are sent
  // to the server.
  void admission(const toml::table& table, Settings& made) {
    known(table, {"ticket_key", "password", "banned"});
    made.banned = texts(table, "banned", "[\"Tern\", \"192.0.2.7\"]");
    made.ticket_key = text(table, "ticket_key", made.ticket_key);
    made.password = text(table, "password", made.password);
    if (made.password.size() > link::kMaxTicketBytes) {
      problem(table.get("password")->source(),
              fmt::format("`password` has at most {} bytes", link::kMaxTicketBytes));
    }
    if (!made.password.empty() &&
        std::isspace(static_cast<unsigned char>(made.password.back())) != 0) {
      problem(table.get("password")->source(),
              "`password` ends with a blank, which `--ticket` leaves out");
    }
    if (!made.ticket_key.empty() && !made.password.empty()) {
      problem(table.source(), "`ticket_key` or `password`, not both");
    }
    if (made.plaintext && !(made.ticket_key.empty() && made.password.empty())) {
      problem(table.source(),
              "tickets and passwords travel encrypted only; set `plaintext` to false");
    }
  }
  // [rooms]: where clients start, and which rooms they may enter.
  void rooms(const toml::table& table, Settings& made) {
    known(table, {"first", "further", "any", "most"});
    made.first_room = text(table, "first", made.first_room);
    if (made.first_room.empty()) {
      problem(table.get("first")->source(), "`first` is the name of a room, as in \"lobby\"");
    }
    made.any_room = yes_or_no(table, "any", made.any_room);
    made.max_rooms = whole(table, "most", 1, 65536, made.max_rooms);
    made.further_rooms = texts(table, "further", "[\"north\", \"south\"]");
  }
  // [limits]: budgets of one client. Each range is the one that the default file states.
  void limits(const toml::table& table, Settings& made) {
    known(table, {"messages_per_tick", "bytes_per_tick", "ticks_per_second", "max_faults",
                  "queue_messages", "drop_slow"});
    made.messages_per_tick = whole(table, "messages_per_tick", 1, 1e6, made.messages_per_tick);
    made.bytes_per_tick = whole(table, "bytes_per_tick", 1, 1e8, made.bytes_per_tick);
    made.ticks_per_second = number(table, "ticks_per_second", 1, 1000, made.ticks_per_second);
    made.max_faults = static_cast<unsigned>(
        whole(table, "max_faults", 0, 1e6, static_cast<double>(made.max_faults)));
    made.queue_messages = whole(table, "queue_messages", 1, 1e6, made.queue_messages);
    made.drop_slow = yes_or_no(table, "drop_slow", made.drop_slow);
  }

  // Without a description and without rules of its own the file gets the rules for opaque bytes.
  [[nodiscard]] bool states_rules() const {
    const auto tables = {"messages", "joining", "leaving", "welcome", "say"};
    return std::any_of(tables.begin(), tables.end(),
                       [this](const char* name) { return root_.contains(name); });
  }

  // Types that travel both ways have a rule, which the file may replace: to the others of the room.
  void rules(const Protocol& protocol, Settings& to) {
    protocol_ = &protocol;
    max_clients_ = to.max_clients;
    to.rules.assign(protocol.messages.size(), std::nullopt);
    for (std::size_t kind = 0; kind < protocol.messages.size(); ++kind) {
      const auto& message = protocol.messages[kind];
      if (message.direction == Direction::both && message.role == schema::MessageRole::message) {
        to.rules[kind] = plain_rule(kind);
      }
    }
    if (const auto* messages = section(root_, "messages")) {
      for (const auto& [key, node] : *messages) {
        const std::string name(key.str());
        const auto kind = json::find_type(protocol, name);
        const auto* table = node.as_table();
        if (!kind || table == nullptr) {
          problem(key.source(), kind ? fmt::format("write [messages.{}]", name) : kind.error());
          continue;
        }
        to.rules[*kind] = rule(*table, *kind);
      }
    }
    to.joining = event("joining");
    to.leaving = event("leaving");
    to.welcome = event("welcome");
    if (const auto* table = section(root_, "say")) {
      known(*table, {"message", "field"});
      const auto kind = type_named(*table, "message");
      if (!kind) return;
      to.say_type = *kind;
      to.say_field = field_named(*table, "field", *kind, {TypeKind::text});
      if (!to.say_field) to.say_type.reset();
      (void)reaches_clients(*table, *kind);
    }
  }

 private:
  const std::string& name_of(std::size_t kind) const { return protocol_->messages[kind].name; }

  // A problem is shown with its line of the file, as errors in descriptions are.
  void problem(const toml::source_region& where, std::string message) {
    const bool one_line =
        where.end.line == where.begin.line && where.end.column > where.begin.column;
    problems.push_back(
        language::render({std::max<std::uint32_t>(1, where.begin.line),
                          std::max<std::uint32_t>(1, where.begin.column),
                          one_line ? where.end.column - where.begin.column : 1, std::move(message)},
                         shown_));
  }
  // A misspelt key would otherwise be a setting that silently has its default.
  void known(const toml::table& table, const std::vector<std::string>& names) {
    for (const auto& [key, node] : table) {
      const std::string name(key.str());
      if (std::find(names.begin(), names.end(), name) != names.end()) continue;
      const std::string near = bits::nearest(name, names);
      problem(key.source(),
              fmt::format("there is no setting `{}` here; {}", name,
                          near.empty() ? fmt::format("there are {}", fmt::join(names, ", "))
                                       : fmt::format("did you mean `{}`?", near)));
    }
  }
  const toml::table* section(const toml::table& table, const char* name) {
    const toml::node* node = table.get(name);
    if (node == nullptr) return nullptr;
    if (!node->is_table()) problem(node->source(), fmt::format("write [{}]", name));
    return node->as_table();
  }
  // The readers of single values: `otherwise` where the key is absent or its value is wrong. A
  // wrong value is reported with the type or the range that is wanted.
  std::string text(const toml::table& table, const char* key, std::string otherwise) {
    const toml::node* node = table.get(key);
    if (node == nullptr) return otherwise;
    if (!node->is_string()) problem(node->source(), fmt::format("`{}` is a text in quotes", key));
    return node->value_or(std::move(otherwise));
  }
  std::vector<std::string> texts(const toml::table& table, const char* key, const char* example) {
    const toml::node* node = table.get(key);
    if (node == nullptr) return {};
    std::vector<std::string> made;
    const toml::array* list = node->as_array();
    for (std::size_t i = 0; list != nullptr && i < list->size(); ++i) {
      if (const auto one = (*list)[i].value_exact<std::string>()) made.push_back(*one);
    }
    if (list == nullptr || made.size() < list->size()) {
      problem(node->source(), fmt::format("`{}` is a list of names: {}", key, example));
    }
    return made;
  }
  bool yes_or_no(const toml::table& table, const char* key, bool otherwise) {
    const toml::node* node = table.get(key);
    if (node == nullptr) return otherwise;
    if (!node->is_boolean()) problem(node->source(), fmt::format("`{}` is true or false", key));
    return node->value_or(otherwise);
  }
  double number(const toml::table& table, const char* key, double min, double max,
                double otherwise) {
    const toml::node* node = table.get(key);
    if (node == nullptr) return otherwise;
    const auto value = node->is_number() ? node->value<double>() : std::optional<double>();
    if (value && *value >= min && *value <= max) return *value;
    problem(node->source(), fmt::format("`{}` is a number from {} to {}", key, min, max));
    return otherwise;
  }
  std::size_t whole(const toml::table& table, const char* key, double min, double max,
                    double otherwise) {
    const toml::node* node = table.get(key);
    if (node != nullptr && node->is_floating_point()) {
      problem(node->source(), fmt::format("`{}` is a whole number", key));
    }
    return static_cast<std::size_t>(number(table, key, min, max, otherwise));
  }
  std::size_t whole(const toml::table& table, const char* key, double min, double max,
                    std::size_t otherwise) {
    return whole(table, key, min, max, static_cast<double>(otherwise));
  }
  // A word from a list; the enumerators stand in the same order as the names.
  template <class Choice>
  Choice choice(const toml::table& table, const char* key, const std::vector<std::string>& names,
                Choice otherwise) {
    const toml::node* node = table.get(key);
    if (node == nullptr) return otherwise;
    const std::string given = node->value_or(std::string());
    const auto found = std::find(names.begin(), names.end(), given);
    if (found != names.end()) return static_cast<Choice>(found - names.begin());
    const std::string near = bits::nearest(given, names);
    problem(node->source(), fmt::format("`{}` is one of \"{}\"{}", key, fmt::join(names, "\", \""),
                                        near.empty() ? "" : "; did you mean \"" + near + "\"?"));
    return otherwise;
  }

  // The type number of the message that a key names.
  std::optional<std::size_t> type_named(const toml::table& table, const char* key) {
    const toml::node* node = table.get(key);
    if (node == nullptr) {
      problem(table.source(), fmt::format("`{}` is missing; it names a message", key));
      return std::nullopt;
    }
    const auto kind = json::find_type(*protocol_, node->value_or(std::string()));
    if (!kind) {
      problem(node->source(), kind.error());
      return std::nullopt;
    }
    return *kind;
  }
  // The place of the field that a key names, if its type is one of `types`. Nothing, without a
  // problem, where the key is absent.
  std::optional<std::size_t> field_named(const toml::table& table, const char* key,
                                         std::size_t kind, const std::vector<TypeKind>& types) {
    const toml::node* node = table.get(key);
    const std::string name = node == nullptr ? "" : node->value_or(std::string());
    if (node == nullptr || name.empty()) return std::nullopt;
    std::vector<std::string> names;
    for (const schema::Field& field : protocol_->messages[kind].fields) {
      names.push_back(field.name);
      if (field.name != name) continue;
      if (std::find(types.begin(), types.end(), field.type.kind) != types.end()) {
        return names.size() - 1;
      }
      problem(node->source(), fmt::format("`{}` of {} is {}; {} is wanted here", name,
                                          name_of(kind), schema::type_text(*protocol_, field.type),
                                          types.front() == TypeKind::text ? "a text" : "a number"));
      return std::nullopt;
    }
    const std::string near = bits::nearest(name, names);
    problem(node->source(), fmt::format("{} has no field `{}`{}", name_of(kind), name,
                                        near.empty() ? "" : "; did you mean `" + near + "`?"));
    return std::nullopt;
  }

  // The message is passed on as it is.
  Rule plain_rule(std::size_t kind) {
    Rule made;
    made.as = kind;
    finish(made, kind);
    return made;
  }
  // What the message sent starts from, and which fields are taken over.
  void finish(Rule& rule, std::optional<std::size_t> from) {
    const auto& target = protocol_->messages[rule.as].fields;
    rule.start = schema::initial_value(*protocol_, target);
    if (!from) return;
    const auto& source = protocol_->messages[*from].fields;
    for (std::size_t i = 0; i < source.size(); ++i) {
      for (std::size_t k = 0; k < target.size(); ++k) {
        if (source[i].name == target[k].name && source[i].type == target[k].type) {
          rule.copied.emplace_back(i, k);
        }
      }
    }
  }
  // `fields` sets initial values of the outgoing message, in the form that `kwind talk` reads.
  void set_fields(const toml::table& table, Rule& rule) {
    const toml::node* node = table.get("fields");
    if (node == nullptr) return;
    const auto& fields = protocol_->messages[rule.as].fields;
    auto value = json::parse_fields(*protocol_, fields, node->value_or(std::string("?")));
    if (!value) {
      problem(node->source(), fmt::format("`fields`: {}", value.error()));
      return;
    }
    rule.start = std::move(*value);
  }
  // The field that gets a client's number, which must have room for all of them.
  std::optional<std::size_t> sender(const toml::table& table, std::size_t as) {
    const auto place =
        field_named(table, "sender", as, {TypeKind::integer, TypeKind::count, TypeKind::peer});
    if (!place) return std::nullopt;
    const schema::Field& field = protocol_->messages[as].fields[*place];
    std::int64_t lo = 0;
    std::int64_t hi = field.type.limit;  // count
    if (field.type.kind == TypeKind::peer) --hi;
    if (field.type.kind == TypeKind::integer) {
      lo = field.type.integer.lo;
      hi = field.type.integer.hi;
    }
    if (lo <= 1 && hi >= static_cast<std::int64_t>(max_clients_)) return place;
    problem(table.get("sender")->source(),
            fmt::format(
                "`{}` of {} holds {} to {}, and clients are numbered 1 to {}; {}", field.name,
                name_of(as), lo, hi, max_clients_,
                field.type.kind == TypeKind::peer
                    ? fmt::format("say `peers up to {}`, or lower max_clients", max_clients_ + 1)
                    : std::string("widen it, or lower max_clients")));
    return std::nullopt;
  }

  // [messages.NAME]: a rule for messages that clients send.
  std::optional<Rule> rule(const toml::table& table, std::size_t kind) {
    known(table, {"to", "as", "sender", "enters", "keep", "fields"});
    const schema::MessageType& message = protocol_->messages[kind];
    if (message.direction == Direction::from_server ||
        message.role != schema::MessageRole::message) {
      problem(
          table.source(),
          message.role == schema::MessageRole::message
              ? fmt::format("{} travels from the server only; clients cannot send it", message.name)
              : fmt::format("{} is a request; a relay has no answers", message.name));
      return std::nullopt;
    }
    Rule made;
    made.to = choice<To>(table, "to", {"others", "room", "everyone", "nobody"}, To::others);
    made.as = kind;
    if (table.contains("as")) {
      const auto as = type_named(table, "as");
      if (!as) return std::nullopt;
      made.as = *as;
    }
    const schema::MessageType& target = protocol_->messages[made.as];
    made.keep = choice<Keep>(table, "keep", {"no", "sender", "room"}, Keep::no);
    // Who comes later gets what is kept.
    const bool sent = made.to != To::nobody || made.keep != Keep::no;
    if (sent && (target.direction == Direction::from_client ||
                 target.role != schema::MessageRole::message)) {
      problem(table.source(),
              fmt::format("{} cannot be sent to clients; name with `as` which message they get "
                          "instead, or set `to` to \"nobody\" and keep nothing",
                          target.name));
      return std::nullopt;
    }
    finish(made, kind);
    set_fields(table, made);
    made.sender = sender(table, made.as);
    made.enters = field_named(table, "enters", kind, {TypeKind::text});
    return made;
  }
  // Whether a relay can send this message by itself.
  bool reaches_clients(const toml::table& table, std::size_t kind) {
    const schema::MessageType& message = protocol_->messages[kind];
    if (message.direction == Direction::from_client) {
      problem(table.source(), fmt::format("{} travels from clients only", message.name));
      return false;
    }
    if (message.role == schema::MessageRole::message) return true;
    problem(table.source(),
            fmt::format("{} belongs to a request; a relay asks and answers nothing", message.name));
    return false;
  }
  // [joining], [leaving] and [welcome]: a message that no client sent.
  std::optional<Rule> event(const char* name) {
    const auto* table = section(root_, name);
    if (table == nullptr) return std::nullopt;
    known(*table, {"to", "as", "sender", "keep", "fields"});
    const auto as = type_named(*table, "as");
    if (!as) return std::nullopt;
    if (!reaches_clients(*table, *as)) return std::nullopt;
    Rule made;
    made.as = *as;
    made.to = choice<To>(*table, "to", {"others", "room", "everyone", "nobody"}, To::others);
    finish(made, std::nullopt);
    set_fields(*table, made);
    made.sender = sender(*table, made.as);
    made.keep = choice<Keep>(*table, "keep", {"no", "sender", "room"}, Keep::no);
    return made;
  }

  toml::table root_;
  language::Compiled shown_;  // for showing lines
  const Protocol* protocol_ = nullptr;
  std::size_t max_clients_ = 0;
};

}  // namespace

ReadSettings read_settings(const std::string& file, const std::string& text) {
  Reader reader(file, text);
  ReadSettings read{reader.settings(), {}};
  read.problems = std::move(reader.problems);
  return read;
}

std::vector<std::string> read_rules(const std::string& file, const std::string& text,
                                    const Protocol& protocol, Settings& to) {
  Reader reader(file, text);
  if (to.description.empty() && reader.problems.empty() && !reader.states_rules()) {
    return read_rules("the rules for opaque bytes", kOpaqueRules, protocol, to);
  }
  if (reader.problems.empty()) reader.rules(protocol, to);
  return std::move(reader.problems);
}

// Each line with its default, and what each section is for.
constexpr char kSettingsText[] =
    R"(# Settings of `kwind relay`. Each line shows the default; leave out what you do not change.
# [start] marks what takes effect with the next start; the rest also with SIGHUP or `reload`.
# Files are named as seen from the folder of this one.

description = {}             # a .kw file; "": opaque bytes, as `kwind relay --opaque` prints it [start]
listen = "{}"   # address and port; "0.0.0.0:4000" or "[::]:4000" for other machines too [start]
key_file = ""                # the secret key, server.key of `kwind keys`; "": a new one each start [start]
plaintext = {}                # encrypt nothing; for this machine only [start]
max_clients = {}            # who comes beyond is refused [start]
resume_seconds = {}          # how long a client whose connection broke may come back as itself [start]
log = "events"               # "quiet", "events" (who comes and goes), "messages" (each one)

[admission]
ticket_key = ""              # ticket.pub of `kwind keys`: only who brings a ticket gets in [start]
password = ""                # only who brings it as a ticket gets in [start]
banned = []                  # who does not: subjects of tickets, addresses: ["Tern", "192.0.2.7"]

[rooms]
first = "{}"              # where everybody starts
further = []                 # rooms that can be entered besides: ["north", "south"]
any = {}                  # rooms of any name can be entered
most = {}                   # rooms at once

[limits]                     # [start]
messages_per_tick = {}       # of one client; more waits, or is dropped where the channel permits
bytes_per_tick = {}
ticks_per_second = {}
max_faults = {}             # messages that do not fit the description, then the client is closed; 0: never
queue_messages = {}        # per channel, that wait for one client
drop_slow = {}            # close a client whose queue is full, instead of leaving messages out

# What happens with a kind of message: [messages.NAME], and for coming and going [joining], [leaving].
#   to      "others" of the sender's room, the whole "room", "everyone", "nobody"
#   as      another message that receivers get instead; fields of the same name and type are copied
#   sender  the field in which receivers find the sender's number, 1 to
#           max_clients; without it they are sent nothing
#   keep    for those who come later: "no", the last of each "sender" while it is there, or
#           the last of anybody while the "room" exists
#   enters  the field that names a room: the sender goes there
#   fields  what other fields hold: "tone=plain cargo=salt"
# Kinds that travel both ways and have no rule go to the others of the room.
# [welcome] goes to who has just come, its own number in `sender`.
# [say] is how `say` in the console speaks: message = "NAME", field = "NAME".
)";

// The file of `kwind relay --settings`: defaults come from the structure itself, so that the
// text cannot differ from them.
std::string settings_text(const Protocol* protocol, const std::string& description) {
  const Settings d;
  std::string text = fmt::format(
      kSettingsText, description.empty() ? "\"\"" : json::shown(description), d.listen, d.plaintext,
      d.max_clients, d.resume_seconds, d.first_room, d.any_room, d.max_rooms, d.messages_per_tick,
      d.bytes_per_tick, d.ticks_per_second, d.max_faults, d.queue_messages, d.drop_slow);
  if (protocol == nullptr) return text + "\n" + kOpaqueRules;
  for (const auto& message : protocol->messages) {
    if (message.role != schema::MessageRole::message) continue;
    if (message.direction == Direction::from_server) continue;
    text += fmt::format("\n[messages.{}]\nto = \"{}\"\n", message.name,
                        message.direction == Direction::both ? "others" : "nobody");
    if (message.direction == Direction::from_client) {
      text += "# as = \"NAME\"   # it travels from clients only: others get another message\n";
    }
    text += "# sender = \"FIELD\"\nkeep = \"no\"\n";
  }
  text +=
      "\n# [joining]\n# to = \"others\"\n# as = \"NAME\"\n# sender = \"FIELD\"\n# keep = "
      "\"sender\"\n";
  text += "\n# [leaving]\n# to = \"others\"\n# as = \"NAME\"\n# sender = \"FIELD\"\n";
  return text;
}

// Settings that differ and that a reload cannot change.
std::vector<std::string> fixed_changes(const Settings& now, const Settings& wanted) {
  std::vector<std::string> names;
  const auto differs = [&](const char* name, bool differ) {
    if (differ) names.emplace_back(name);
  };
  differs("description", now.description != wanted.description);
  differs("listen", now.listen != wanted.listen);
  differs("key_file", now.key_file != wanted.key_file);
  differs("plaintext", now.plaintext != wanted.plaintext);
  differs("max_clients", now.max_clients != wanted.max_clients);
  differs("resume_seconds", now.resume_seconds != wanted.resume_seconds);
  differs("ticket_key or password",
          now.ticket_key != wanted.ticket_key || now.password != wanted.password);
  differs("limits", now.messages_per_tick != wanted.messages_per_tick ||
                        now.bytes_per_tick != wanted.bytes_per_tick ||
                        now.ticks_per_second != wanted.ticks_per_second ||
                        now.max_faults != wanted.max_faults ||
                        now.queue_messages != wanted.queue_messages ||
                        now.drop_slow != wanted.drop_slow);
  return names;
}

}  // namespace kwind::relay
