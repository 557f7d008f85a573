// A server that needs no game code: passes messages on by the rules of its settings. Shows clients
// no address of others. One relay, one thread.
#pragma once
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "kwind/host/server.h"
#include "kwind/schema/tables.h"
#include "relay/settings.h"

namespace kwind::relay {

/// Lets in who brings the password as a ticket.
class PasswordGate final : public link::TicketGate {
 public:
  explicit PasswordGate(const std::string& password);
  [[nodiscard]] Result<link::Claims> check(std::string_view ticket,
                                           std::int64_t unix_seconds) const override;

 private:
  Digest128 digest_;  // digests are compared, whose bytes tell nothing of the password
  mutable std::uint64_t entries_ = 0;
};

class Relay {
 public:
  /// What whoever keeps the relay gets to read.
  struct Operator {
    std::function<void(const std::string&)> remark;  ///< a line for people
    std::function<void(const std::string&)> json;    ///< a JSON object, for programs
  };
  /// `tables` and `port` must outlive the relay.
  Relay(const schema::Tables& tables, Transport& transport, const Settings& settings,
        const host::ServerOptions& options, Operator console);

  void receive(Time now);
  void flush(Time now);
  [[nodiscard]] Time next_wakeup() const { return server_.next_wakeup(); }

  /// New rules, rooms, log level, way of saying, and who is banned besides those banned by hand;
  /// the rest of `settings` is not looked at.
  void set_rules(const Settings& settings);
  /// Does what was typed. Returns what is wrong, or "". `quit` and `reload` are the caller's.
  std::string command(const std::string& line);
  /// Names of the commands, for completion.
  static const std::vector<std::string>& commands();
  static const char* help();

  void close_all(std::string_view reason);
  [[nodiscard]] bool empty() const { return server_.connections() == 0; }

 private:
  struct Member {
    std::uint32_t number = 0;  // what clients and operator know it by: its slot
    std::string room;
    std::string name;  // of its ticket; may be empty
    Time since{};
  };
  // A last value, kept for who comes later.
  struct Kept {
    std::uint64_t number = 0;  // in the order in which they came
    std::size_t as = 0;
    schema::Value value{};  // as it was sent
  };
  using KeptBy = std::pair<std::uint32_t, std::size_t>;  // sender (0: of anybody), kind

  void remark(const std::string& line) const { operator_.remark(line); }
  void came(host::Peer peer);
  void left(host::Peer peer, Errc code, std::string_view reason);
  void enter(host::Peer peer, const std::string& room);
  void send_kept(host::Peer peer, const std::string& room);
  void leave_room(host::Peer peer);
  void heard(host::Peer peer, const route::RawMessage& message);
  [[nodiscard]] schema::Value shaped(const Rule& rule, host::Peer sender,
                                     const schema::Value* value) const;
  void pass_on(const Rule& rule, std::size_t kind, host::Peer sender, const schema::Value* value);
  void keep(const Rule& rule, std::size_t kind, host::Peer sender, schema::Value value);
  void event(const std::string& text);
  [[nodiscard]] std::string called(host::Peer peer) const;
  [[nodiscard]] std::uint32_t number_of(host::Peer peer) const;
  [[nodiscard]] std::optional<host::Peer> with_number(const std::string& word) const;
  [[nodiscard]] std::string address_of(host::Peer peer) const;
  [[nodiscard]] std::string who_is(host::Peer peer) const;  // what a ban goes by
  [[nodiscard]] static std::string plain(const std::string& name);
  [[nodiscard]] bool is_barred(const std::string& who) const;
  std::string tap(const std::vector<std::string>& words);
  std::string say(const std::string& words);
  std::string kick(const std::vector<std::string>& words, const std::string& reason, bool ban);
  void show_members() const;
  void show_rooms() const;
  void show_stats() const;

  const schema::Tables& tables_;
  const schema::Protocol& protocol_;
  Settings settings_;
  Operator operator_;
  host::Server server_;
  Time now_{};
  std::map<host::Peer, Member> members_;
  std::map<std::string, std::map<KeptBy, Kept>> kept_;  // by room
  std::uint64_t last_kept_ = 0;
  std::set<std::string> banned_;  // by hand; the settings name others
  schema::Value decoded_;         // of the message that is checked, for the handler behind
  std::uint64_t passed_on_ = 0;
  std::uint64_t no_rule_ = 0;
};

}  // namespace kwind::relay
