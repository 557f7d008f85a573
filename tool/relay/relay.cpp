// Forwards messages between the clients of a relay by the rules of its settings: who may send what,
// to whom it goes, what newcomers are shown. It knows message types by the description alone.
#include "relay/relay.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "kwind/bits/nearest.h"
#include "kwind/json/line.h"
#include "kwind/json/text.h"

namespace kwind::relay {

using host::Peer;
using route::CheckResult;
using route::RawMessage;
using schema::AnyMessage;
using schema::Value;

// Only the hash of the password stays in memory.
PasswordGate::PasswordGate(const std::string& password) : digest_(blake2b_128(password)) {}

Result<link::Claims> PasswordGate::check(std::string_view ticket, std::int64_t now) const {
  if (!same_bytes(blake2b_128(ticket), digest_)) return fail(Errc::ticket_invalid);
  // A ticket counts once, a password as often as somebody comes: each time it is another id.
  return link::Claims{"", fmt::format("password {}", ++entries_), now + 1, "{}"};
}

// Every message is decoded whole before any rule sees it, so that a relay passes on nothing that
// does not fit the description. The check costs a decode for each message.
Relay::Relay(const schema::Tables& tables, Transport& transport, const Settings& settings,
             const host::ServerOptions& options, Operator console)
    : tables_(tables),
      protocol_(tables.protocol()),
      settings_(settings),
      operator_(std::move(console)),
      server_(transport, tables.info(), options) {
  server_.on_connect([this](Peer peer) { came(peer); });
  server_.on_resume([this](Peer peer) {
    if (is_barred(who_is(peer))) {  // since it went away
      event(called(peer) + " wanted to come back, and is banned");
      return server_.close(peer, "banned");
    }
    event(called(peer) + " is back");
    send_kept(peer, members_[peer].room);  // it has missed what was sent meanwhile
  });
  server_.on_disconnect(
      [this](Peer peer, Errc code, std::string_view reason) { left(peer, code, reason); });
  server_.check_all([this](Peer, const RawMessage& message) {
    const auto& fields = protocol_.messages[message.info.type].fields;
    schema::Decoder in(message.fields, message.version);
    schema::decode_value(protocol_, fields, in, decoded_);
    return in.error() == Errc::none && in.left_bits() == 0 ? CheckResult::accept
                                                           : CheckResult::penalize;
  });
  server_.on_unhandled([this](Peer peer, const RawMessage& message) { heard(peer, message); });
}

void Relay::receive(Time now) {
  now_ = now;
  server_.receive(now);
}

void Relay::flush(Time now) {
  server_.flush(now);
}

// Log::quiet shows answers to commands alone.
void Relay::event(const std::string& text) {
  if (settings_.log != Log::quiet) remark(text);
}

// "client 3", or "client 3 Anna" if its ticket names it.
std::string Relay::called(Peer peer) const {
  const auto found = members_.find(peer);
  if (found == members_.end()) return fmt::format("client {}", server_.slot(peer));
  const Member& member = found->second;
  if (member.name.empty()) return fmt::format("client {}", member.number);
  return fmt::format("client {} {}", member.number, json::shown(member.name));
}

std::uint32_t Relay::number_of(Peer peer) const {
  const auto found = members_.find(peer);
  return found == members_.end() ? 0 : found->second.number;
}

// Clients are called by their slots, which are small and are given out again.
std::optional<Peer> Relay::with_number(const std::string& word) const {
  std::uint32_t number = 0;
  const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), number);
  if (error != std::errc() || end != word.data() + word.size()) return std::nullopt;
  for (const auto& [peer, member] : members_) {
    if (member.number == number) return peer;
  }
  return std::nullopt;
}

std::string Relay::address_of(Peer peer) const {
  const Endpoint* address = server_.address(peer);
  return address == nullptr ? "?" : address->text();
}

// The name by which a client is banned: the subject of its ticket, or its address without the port.
std::string Relay::who_is(Peer peer) const {
  const link::Claims* claims = server_.claims(peer);
  if (claims != nullptr && !claims->subject.empty()) return claims->subject;
  // Other clients of the machine are banned with it.
  const Endpoint* address = server_.address(peer);
  return address == nullptr ? "?" : address->ip_text();
}

// An address in the form that we print it in, however it was written; other names as they are.
std::string Relay::plain(const std::string& name) {
  std::string address = name;
  if (address.find(':') != std::string::npos && !address.starts_with('[')) {
    address = "[" + address + "]";
  }
  const auto parsed = Endpoint::parse(address + ":0");
  return parsed ? parsed->ip_text() : name;
}

// By a command, or by the settings.
bool Relay::is_barred(const std::string& who) const {
  const auto& always = settings_.banned;
  return banned_.count(who) > 0 || std::any_of(always.begin(), always.end(), [&](const auto& each) {
           return plain(each) == who;
         });
}

// ---- who comes and goes ----

// A newcomer is welcomed, shown what is kept in the first room, and announced there.
void Relay::came(Peer peer) {
  if (is_barred(who_is(peer))) {
    event(fmt::format("{} at {} is banned", called(peer), address_of(peer)));
    server_.close(peer, "banned");
    return;
  }
  const link::Claims* claims = server_.claims(peer);
  members_[peer] = {server_.slot(peer), "", claims == nullptr ? "" : claims->subject, now_};
  event(fmt::format("{} is here, from {}", called(peer), address_of(peer)));
  if (settings_.welcome) {
    const Value hello = shaped(*settings_.welcome, peer, nullptr);
    (void)server_.send(peer, AnyMessage(tables_, settings_.welcome->as, hello));
  }
  enter(peer, settings_.first_room);
}

// A client that closed by itself has left; otherwise the line says what ended the connection.
void Relay::left(Peer peer, Errc code, std::string_view reason) {
  if (members_.count(peer) == 0) return;
  std::string why = host::explain_end(code, reason);
  if (code == Errc::closed_by_peer) {
    why = reason.empty() ? "it left" : "it left: " + json::shown(reason);
  } else if (code == Errc::closed_here) {
    why = fmt::format("closed: {}", reason);
  }
  event(fmt::format("{} is gone: {}", called(peer), why));
  leave_room(peer);
  members_.erase(peer);
}

// A client is in one room at a time. Kept messages go to the client before it is announced: then it
// knows the others before they know it.
void Relay::enter(Peer peer, const std::string& room) {
  leave_room(peer);
  members_[peer].room = room;
  send_kept(peer, room);
  server_.rooms().enter(peer, room);
  if (settings_.joining) {
    pass_on(*settings_.joining, protocol_.messages.size(), peer, nullptr);
  }
}

// Kept messages in the order in which they were sent.
void Relay::send_kept(Peer peer, const std::string& room) {
  const auto found = kept_.find(room);
  if (found == kept_.end()) return;
  std::vector<const Kept*> kept;
  for (const auto& [by, each] : found->second) kept.push_back(&each);
  std::sort(kept.begin(), kept.end(),
            [](const Kept* a, const Kept* b) { return a->number < b->number; });
  for (const Kept* each : kept)
    (void)server_.send(peer, AnyMessage(tables_, each->as, each->value));
}

// What was kept of this client goes, the others in the room are told, and a room without members is
// forgotten with all that it kept.
void Relay::leave_room(Peer peer) {
  const std::string room = std::exchange(members_[peer].room, {});
  if (room.empty()) return;
  const std::uint32_t number = number_of(peer);
  auto& kept = kept_[room];
  kept.erase(kept.lower_bound({number, 0}), kept.lower_bound({number + 1, 0}));
  if (settings_.leaving) {
    const Rule& rule = *settings_.leaving;
    const Value value = shaped(rule, peer, nullptr);
    const AnyMessage message(tables_, rule.as, value);
    if (rule.to == To::everyone) {
      server_.send_to_all_but(peer, message);
    } else if (rule.to != To::nobody) {
      server_.send_to_room_but(room, peer, message);
    }
  }
  server_.rooms().leave(peer, room);
  if (server_.rooms().members(room).empty()) kept_.erase(room);
}

// ---- messages ----

// A message that has no rule is counted and goes to nobody.
void Relay::heard(Peer peer, const RawMessage& message) {
  const std::size_t kind = message.info.type;
  if (settings_.log == Log::messages) {
    remark(fmt::format("{}: {} {}", called(peer), message.info.name,
                       json::line_text(protocol_, protocol_.messages[kind].fields, decoded_)));
  }
  if (!settings_.rules[kind]) {
    ++no_rule_;
    return;
  }
  const Rule& rule = *settings_.rules[kind];
  const Value value = decoded_;
  pass_on(rule, kind, peer, &value);
  if (!rule.enters) return;
  const std::string room = value.items[*rule.enters].text;
  const auto& further = settings_.further_rooms;
  const bool known = room == settings_.first_room ||
                     std::find(further.begin(), further.end(), room) != further.end();
  const bool fits =
      server_.rooms().count() < settings_.max_rooms || !server_.rooms().members(room).empty();
  if (room.empty() || (!known && !settings_.any_room) || !fits) {
    event(fmt::format("{} wants to enter {}, which {}", called(peer), json::shown(room),
                      fits ? "is no room" : "would be one too many"));
    return;
  }
  if (room == members_[peer].room) return;
  enter(peer, room);
  event(fmt::format("{} is in room {}", called(peer), json::shown(room)));
}

// The message that a rule sends: fields copied from the original, the sender's number, and initial
// values for the rest.
Value Relay::shaped(const Rule& rule, Peer sender, const Value* value) const {
  Value made = rule.start;
  if (value != nullptr) {
    for (const auto& [from, to] : rule.copied) made.items[to] = value->items[from];
  }
  if (rule.sender) made.items[*rule.sender].whole = number_of(sender);
  return made;
}

// Sends by the rule, and keeps the message for newcomers if the rule says so.
void Relay::pass_on(const Rule& rule, std::size_t kind, Peer sender, const Value* value) {
  Value made = shaped(rule, sender, value);
  const AnyMessage message(tables_, rule.as, made);
  const std::string& room = members_[sender].room;
  switch (rule.to) {
    case To::others: server_.send_to_room_but(room, sender, message); break;
    case To::room: server_.send_to_room(room, message); break;
    case To::everyone: server_.send_to_all(message); break;
    case To::nobody: break;
  }
  if (rule.to != To::nobody) ++passed_on_;
  if (rule.keep != Keep::no) keep(rule, kind, sender, std::move(made));
}

// One message of each type for the room, or one for each sender: the newest.
void Relay::keep(const Rule& rule, std::size_t kind, Peer sender, Value value) {
  const std::uint32_t of = rule.keep == Keep::sender ? number_of(sender) : 0;
  kept_[members_[sender].room][{of, kind}] = {++last_kept_, rule.as, std::move(value)};
}

// After `reload`. Addresses, keys and limits of the server stay as they were at the start.
void Relay::set_rules(const Settings& settings) {
  settings_.log = settings.log;
  settings_.banned = settings.banned;
  settings_.first_room = settings.first_room;
  settings_.further_rooms = settings.further_rooms;
  settings_.any_room = settings.any_room;
  settings_.max_rooms = settings.max_rooms;
  settings_.say_type = settings.say_type;
  settings_.say_field = settings.say_field;
  settings_.rules = settings.rules;
  settings_.joining = settings.joining;
  settings_.leaving = settings.leaving;
  settings_.welcome = settings.welcome;
}

void Relay::close_all(std::string_view reason) {
  server_.close_all(reason);
}

// ---- the console ----

const std::vector<std::string>& Relay::commands() {
  static const std::vector<std::string> all = {"who", "rooms", "kick",  "ban",    "banned", "unban",
                                               "say", "tap",   "stats", "reload", "help",   "quit"};
  return all;
}

const char* Relay::help() {
  return "who                    who is there, in which room, for how long\n"
         "rooms                  rooms and how many are in them\n"
         "kick CLIENT [WHY]      end a client's connection\n"
         "ban CLIENT [WHY]       ... and let it in no more: by its ticket's subject, else its "
         "address; until this ends\n"
         "banned, unban NAME     who is banned; let in again\n"
         "say WORDS              to everybody, as [say] in the settings has it\n"
         "tap on|off|json|CLIENT show every message, of all or of one\n"
         "stats                  what went over the wire\n"
         "reload                 read the settings again\n"
         "quit                   close all connections and end";
}

// One line of the console. Returns what is wrong with the line, or nothing.
std::string Relay::command(const std::string& line) {
  const auto parts = json::words_of(line);
  if (parts.empty()) return {};
  const std::vector<std::string> words(parts.begin(), parts.end());
  const auto from = [&](std::size_t word) {
    return word < parts.size()
               ? line.substr(static_cast<std::size_t>(parts[word].data() - line.data()))
               : std::string();
  };
  const std::string& first = words[0];
  if (first == "help") return remark(help()), "";
  if (first == "who") return show_members(), "";
  if (first == "rooms") return show_rooms(), "";
  if (first == "stats") return show_stats(), "";
  if (first == "tap") return tap(words);
  if (first == "say") return say(from(1));
  if (first == "kick" || first == "ban") return kick(words, from(2), first == "ban");
  if (first == "banned") {
    if (banned_.empty() && settings_.banned.empty()) remark("nobody is banned");
    for (const std::string& name : banned_) remark("banned: " + json::shown(name));
    for (const std::string& name : settings_.banned) {
      remark("banned by the settings: " + json::shown(name));
    }
    return {};
  }
  if (first == "unban") {
    // Names may have blanks; quotes around them, as `banned` prints them, are not part of them.
    std::string name = from(1);
    if (name.size() >= 2 && name.front() == '"' && name.back() == '"') {
      name = name.substr(1, name.size() - 2);
    }
    name = plain(name);
    if (banned_.erase(name) > 0) return remark(json::shown(name) + " may come"), "";
    if (is_barred(name)) {
      return "the settings ban it: take it out of `banned` there, then `reload`";
    }
    return "write `unban NAME`; `banned` lists them";
  }
  const std::string near = bits::nearest(first, commands());
  return fmt::format("{} is no command; {}", json::shown(first),
                     near.empty() ? "`help` lists them" : fmt::format("did you mean `{}`?", near));
}

// A banned client may not come back by another connection, until the relay ends.
std::string Relay::kick(const std::vector<std::string>& words, const std::string& reason,
                        bool ban) {
  const auto found = words.size() > 1 ? with_number(words[1]) : std::nullopt;
  if (!found) {
    return words.size() > 1 ? fmt::format("{} is no client's number; `who` lists the clients",
                                          json::shown(words[1]))
                            : fmt::format("write `{} CLIENT [WHY]`", words[0]);
  }
  const Peer peer = *found;
  if (ban) banned_.insert(who_is(peer));
  event(fmt::format("{} is {}", called(peer),
                    ban ? "banned: " + json::shown(who_is(peer)) : "kicked"));
  server_.close(peer, reason.empty() ? (ban ? "banned" : "kicked") : reason);
  return {};
}

// The words become the field of a message that the settings name, and its range is checked.
std::string Relay::say(const std::string& words) {
  if (!settings_.say_type) {
    return "the settings do not state how: [say] with message = \"NAME\" and field = \"NAME\"";
  }
  if (words.empty()) return "write `say WORDS`";
  const auto& fields = protocol_.messages[*settings_.say_type].fields;
  Value value = schema::initial_value(protocol_, fields);
  value.items[*settings_.say_field].text = words;
  if (auto problem = json::out_of_range(protocol_, fields, value)) return *problem;
  const std::size_t count = server_.send_to_all(AnyMessage(tables_, *settings_.say_type, value));
  remark(fmt::format("said to {}", count));
  return {};
}

// One tap at a time: a new one replaces the old one.
std::string Relay::tap(const std::vector<std::string>& words) {
  const std::string how = words.size() > 1 ? words[1] : "on";
  if (how == "off") {
    server_.set_tap(nullptr);
    return {};
  }
  std::optional<Peer> only;
  if (how != "on" && how != "json") {
    only = with_number(how);
    if (!only) return "write `tap on`, `off`, `json` or a client's number; `who` lists them";
  }
  const bool as_json = how == "json";
  server_.set_tap(
      [this, as_json](const host::Tapped& tapped) {
        const auto& fields = protocol_.messages[tapped.message.info.type].fields;
        Value value = schema::initial_value(protocol_, fields);
        schema::Decoder in(tapped.message.fields, tapped.message.version);
        schema::decode_value(protocol_, fields, in, value);
        if (as_json) {
          nlohmann::ordered_json line{
              {"time", std::chrono::duration<double>(tapped.at.time_since_epoch()).count()},
              {"client", number_of(Peer{tapped.peer})},
              {"way", tapped.received ? "in" : "out"},
              {"type", tapped.message.info.name},
              {"fields", json::to_json(protocol_, fields, value)}};
          operator_.json(json::text_of(line));
        } else {
          remark(fmt::format("{} {:>3}  {} {}", tapped.received ? "from" : "to  ",
                             number_of(Peer{tapped.peer}), tapped.message.info.name,
                             json::line_text(protocol_, fields, value)));
        }
      },
      only);
  return {};
}

// A line for each client, with its address and round trip.
void Relay::show_members() const {
  if (members_.empty()) return remark("nobody is here");
  for (const auto& [peer, member] : members_) {
    const link::Stats* stats = server_.stats(peer);
    remark(fmt::format(
        "{}  room {}  {}  for {} s  round trip {:.1f} ms", called(peer), json::shown(member.room),
        address_of(peer),
        std::chrono::duration_cast<std::chrono::seconds>(now_ - member.since).count(),
        stats == nullptr ? 0.0
                         : std::chrono::duration<double, std::milli>(stats->smoothed_rtt).count()));
  }
}

// Rooms exist while somebody is in them.
void Relay::show_rooms() const {
  std::size_t count = 0;
  server_.rooms().for_each([&](const route::RoomKey& room, std::span<const Peer> members) {
    ++count;
    remark(fmt::format("{}  {} there", json::shown(room.text()), members.size()));
  });
  if (count == 0) remark("all rooms are empty");
}

// Totals since the start, then each cause of drops that occurred.
void Relay::show_stats() const {
  const host::Traffic traffic = server_.traffic();
  const host::Counts counts = server_.counts();
  remark(fmt::format("{} of {} places taken; {} messages passed on, {} without a rule",
                     members_.size(), settings_.max_clients, passed_on_, no_rule_));
  remark(fmt::format("{} datagrams and {} bytes out, {} and {} in", traffic.datagrams_sent,
                     traffic.bytes_sent, traffic.datagrams_received, traffic.bytes_received));
  for (const ErrorInfo& info : kErrorList) {
    if (counts.drops.of(info.code) > 0) {
      remark(fmt::format("{} dropped: {}", counts.drops.of(info.code), info.text));
    }
  }
}

}  // namespace kwind::relay
