// The model of a random walk over one server and several clients: who is connected, which messages
// and requests are in flight, which cause each end may have. The walk itself is in walk_test.cpp.
#pragma once
#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <deque>
#include <map>
#include <memory>
#include <optional>
#include <random>
#include <set>
#include <stdexcept>
#include <string>
#include <unordered_map>
#include <utility>
#include <vector>

#include "host/walk_model.h"
#include "kit/sim_hosts.h"
#include "kwind/host/client.h"
#include "kwind/host/server.h"
#include "kwind/io/sim/network.h"
#include "walk.h"

namespace kwind::host_walk {

using namespace std::chrono_literals;
using namespace ::walk;
using host::Client;
using host::ClientOptions;
using host::Peer;
using host::ServerOptions;
using route::Ending;
using route::Outcome;

class WanderingTransport final : public Transport {
 public:
  WanderingTransport(io::sim::SimTransport& first, Duration clock)
      : inner_(&first), clock_(clock) {}
  void move_to(io::sim::SimTransport& next) { inner_ = &next; }
  [[nodiscard]] Endpoint local() const override { return inner_->local(); }
  std::optional<ReceivedDatagram> receive(Time now) override {
    return inner_->receive(now - clock_);
  }
  void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) override {
    inner_->send(now - clock_, to, bytes);
  }
  void flush(Time) override {}
  [[nodiscard]] const TransportCounts& counts() const override { return inner_->counts(); }

 private:
  io::sim::SimTransport* inner_;
  Duration clock_;
};

/// A client, and what the model knows of it.
struct Boat {
  Duration clock{};  // what its clock shows beyond the network's
  std::unique_ptr<WanderingTransport> transport;
  std::unique_ptr<Client> client;
  Streams up;
  Streams down;
  std::optional<Peer> peer;     // as the server knows it
  bool is_connected = false;    // heard on_connect
  bool is_gone = false;         // the server has reported its end, or another took its place
  std::optional<Errc> ended;    // heard on_disconnect
  bool is_ready = false;        // ready() was called here
  bool is_ready_there = false;  // and by the server
  bool closes = false;          // close() was called here
  bool is_closed_there = false;
  bool is_killed = false;
  bool resumes = false;
  bool is_disturbed = false;  // its path or one of its ends stood still for long
  Time joined{};
  Time asleep_until{};
  std::optional<route::Subscription> subscription;
  std::size_t max_there = 0;  // clients at the server since it joined
};

struct Wrong : std::runtime_error {
  using std::runtime_error::runtime_error;
};
struct Thrown : std::runtime_error {
  Thrown() : std::runtime_error("a handler of the game threw") {}
};

class Fleet {
 public:
  explicit Fleet(std::uint64_t seed)
      : random_(seed), is_calm_(seed % 3 == 0), network_({.delay = 20ms}, seed) {}
  Fleet(const Fleet&) = delete;
  Fleet& operator=(const Fleet&) = delete;
  virtual ~Fleet() = default;

  [[nodiscard]] std::string time() const {
    return std::to_string((now_ - kit::at(0s)) / 1ms) + " ms";
  }
  struct WalkCounts {
    std::size_t messages = 0;
    std::size_t resumed = 0;
    std::size_t thrown = 0;
    std::map<Ending, std::size_t> endings;
    std::map<Errc, std::size_t> ends;  // as the server reports them

    WalkCounts& operator+=(const WalkCounts& other) {
      messages += other.messages;
      resumed += other.resumed;
      thrown += other.thrown;
      for (const auto& [ending, count] : other.endings) endings[ending] += count;
      for (const auto& [end, count] : other.ends) ends[end] += count;
      return *this;
    }
  };
  [[nodiscard]] const WalkCounts& walk_counts() const { return walk_counts_; }

 protected:
  static constexpr host::Timeouts kTimeouts{.idle_timeout = 2s,
                                            .handshake = 2s,
                                            .keepalive = 500ms,
                                            .linger = 1s,
                                            .max_throttle_delay = 5s};

  /// The end that got an outcome may ask again.
  virtual void ask_again(std::size_t boat, bool by_server) = 0;

  // ---- chance ----
  std::int64_t below(std::int64_t limit) {
    return static_cast<std::int64_t>(random_() % static_cast<std::uint64_t>(limit));
  }
  bool one_in(std::int64_t n) { return below(n) == 0; }
  Duration up_to(Duration limit) { return limit * below(1000) / 1000; }
  std::size_t some_boat() { return static_cast<std::size_t>(below(std::ssize(boats_))); }
  template <class T>
  T pick(std::initializer_list<T> values) {
    return values.begin()[below(std::ssize(values))];
  }
  Duration some_clock() {
    server_clock_ = 1s * below(100000) - 500s;
    return server_clock_;
  }
  Number next_number() { return ++last_number_; }

  // The library catches what handlers throw: the first fault is kept, and ends the next step.
  void trace(const std::string& text) const {
    if (std::getenv("KWIND_TRACE")) std::fprintf(stderr, "%s: %s\n", time().c_str(), text.c_str());
  }
  void require(bool right, const std::string& text) const {
    if (!right) fail(text);
  }
  [[noreturn]] void fail(const std::string& text) const {
    if (wrong_.empty()) wrong_ = time() + ": " + text;
    throw Wrong(wrong_);
  }
  void check_handlers() const {
    if (!wrong_.empty()) throw Wrong(wrong_);
  }
  [[nodiscard]] std::string name(std::size_t index) const {
    const Boat& boat = boats_[index];
    std::string text = "client " + std::to_string(index);
    if (boat.peer) text += ", peer " + std::to_string(static_cast<unsigned>(*boat.peer));
    if (boat.ended) text += ", ended with " + std::string(error_info(*boat.ended).name);
    for (const auto& [holds, word] : std::initializer_list<std::pair<bool, const char*>>{
             {boat.is_connected, ", connected"},
             {boat.is_gone, ", gone"},
             {boat.closes, ", closes"},
             {boat.is_closed_there, ", closed there"},
             {boat.is_killed, ", killed"},
             {boat.resumes, ", resumes"},
             {boat.is_disturbed, ", disturbed"}}) {
      if (holds) text += word;
    }
    return text;
  }

  // ---- expectations ----
  [[nodiscard]] Time server_now() const { return now_ + server_clock_; }
  [[nodiscard]] Time client_now(const Boat& boat) const { return now_ + boat.clock; }

  std::size_t boat_of(Peer peer) const {
    const auto found = by_peer_.find(peer);
    require(found != by_peer_.end(), "a handler names a client that is not there");
    return found->second;
  }
  void arrived(std::size_t index, bool at_server, Stream& stream, Number number,
               const std::string& body) {
    const Boat& boat = boats_[index];
    const std::string wrong = stream.arrived(number);
    trace("arrived at " + std::string(at_server ? "server " : "client ") + std::to_string(index) +
          " " + std::to_string(number) + " " + std::to_string(body.size()));
    if (!wrong.empty()) {
      fail(name(index) + (at_server ? " to" : " from") + " server: message " +
           std::to_string(number) + " " + wrong);
    }
    require(body == body_of(number), "a message's body is another one's");
    ++walk_counts_.messages;
    if (at_server) {
      require(!is_paused_, "a message passed while the server was paused");
      require(!options_.hold_until_ready || boat.is_ready_there, "a message came before ready()");
      require(!boat.is_gone, "a message came after the end");
    } else {
      require(!clients_hold_ || boat.is_ready, "a message came before ready() at a client");
      require(!boat.ended, "a message came after the end at a client");
    }
  }
  void misbehave() {
    if (is_over_ || !one_in(40)) return;
    ++walk_counts_.thrown;
    throw Thrown();
  }

  void check_cause_at_server(std::size_t index, Errc code) const {
    const Boat& boat = boats_[index];
    const bool left = boat.closes || boat.is_killed || boat.ended;
    const bool known =
        (code == Errc::closed_by_peer && left) ||
        (code == Errc::closed_here && boat.is_closed_there) ||
        (code == Errc::timeout && (boat.is_disturbed || left || options_.resume > 0s)) ||
        (code == Errc::too_many_faults && options_.max_faults > 0);
    require(known, name(index) + " ends at the server with " + std::string(error_info(code).name));
  }
  void check_cause_at_client(std::size_t index, Errc code) const {
    const Boat& boat = boats_[index];
    const bool shut_out = boat.is_closed_there || options_.max_faults > 0 || boat.is_gone;
    // One may have left in the receive() that refused this one.
    const bool was_full = boat.max_there + 1 >= options_.capacity;
    bool known = false;
    switch (code) {
      case Errc::closed_here: known = boat.closes; break;
      case Errc::closed_by_peer:
      case Errc::too_many_faults: known = shut_out; break;
      case Errc::timeout:
      case Errc::handshake_timeout: known = boat.is_disturbed || !server_ || shut_out; break;
      case Errc::server_full: known = was_full; break;
      case Errc::resume_unknown: known = boat.resumes; break;
      case Errc::server_restarted:  // the word of the end was lost
        known = boat.is_gone || boat.is_disturbed || was_full;
        break;
      case Errc::replaced: known = boat.is_gone; break;
      default: break;
    }
    require(known, name(index) + " ends with " + std::string(error_info(code).name));
  }
  void check_owed(std::size_t index, const Streams& streams, const std::string& when) const {
    for (const Stream* stream : {&streams.sure, &streams.each}) {
      require(stream->owed().empty(),
              name(index) + ": message " + stream->owed() + " did not arrive: " + when);
    }
  }

  // ---- questions ----
  struct Kept {
    Number number;
    Time due;
    std::optional<route::Responder<AskServer>> from_client{};
    std::optional<route::Responder<AskClient>> from_server{};
  };
  template <class T>
  void settle_request(Number number, route::Responder<T>& responder) {
    Question& question = pending_requests_[number];
    const bool replies = one_in(2);
    const Errc error = replies ? responder.reply({.number = number})
                               : responder.refuse(route::RefusalOf<T>::never, "no");
    trace("answer to " + std::to_string(number) + ": " + std::string(error_info(error).name));
    if (error == Errc::none) {
      question.fate = replies ? Fate::replied : Fate::refused;
      question.settled_at = now_;
      require(responder.reply({.number = number}) != Errc::none, "a question was answered twice");
    } else {
      require(error == Errc::no_such_peer || error == Errc::stray_answer ||
                  error == Errc::queue_full || error == Errc::closed,
              "answering fails with " + std::string(error_info(error).name));
      question.fate = Fate::abandoned;  // the Answer goes
    }
  }
  template <class T>
  void answer_or_keep(Number number, route::Responder<T> responder, std::deque<Kept>& kept) {
    Question& question = pending_requests_.at(number);
    require(question.fate == Fate::unseen, "a question came twice");
    question.fate = Fate::abandoned;  // unless this ends otherwise
    if (is_over_ || one_in(2)) return settle_request(number, responder);
    if (one_in(10)) return;
    if (one_in(10)) {
      ++walk_counts_.thrown;
      throw Thrown();
    }
    question.fate = Fate::kept;
    Kept entry{number, now_ + up_to(3s)};
    if constexpr (std::is_same_v<T, AskServer>) {
      entry.from_client.emplace(std::move(responder));
    } else {
      entry.from_server.emplace(std::move(responder));
    }
    kept.push_back(std::move(entry));
  }
  void answer_kept(std::deque<Kept>& all, bool at_once) {
    for (auto kept = all.begin(); kept != all.end();) {
      if (!at_once && now_ < kept->due) {
        ++kept;
        continue;
      }
      Question& question = pending_requests_[kept->number];
      question.fate = Fate::abandoned;
      if (!one_in(5)) {
        if (kept->from_client) settle_request(kept->number, *kept->from_client);
        if (kept->from_server) settle_request(kept->number, *kept->from_server);
      }
      kept = all.erase(kept);
    }
  }
  template <class T>
  void settled(std::size_t index, Number number, const Outcome<T>& outcome, bool by_server) {
    const Boat& boat = boats_[index];
    Question& question = pending_requests_.at(number);
    const Time now = by_server ? server_now() : client_now(boat);
    trace("outcome of " + std::to_string(number) + " at " + name(index) + ": " +
          std::to_string(static_cast<int>(outcome.ending)) + (boat.is_ready ? "" : ", not ready") +
          (boat.is_ready_there ? "" : ", not ready at the server"));
    const bool stands = server_ && boat.peer && !boat.ended && !boat.is_gone &&
                        !boat.is_closed_there && !boat.closes && !boat.is_killed &&
                        !boat.is_disturbed && options_.max_faults == 0;
    const std::string wrong =
        judge(question, outcome.ending, outcome.reply.number == number, now, !stands);
    if (!wrong.empty()) fail(name(index) + (by_server ? " was asked: " : " asked: ") + wrong);
    ++walk_counts_.endings[outcome.ending];
    const bool in_time = (question.fate == Fate::replied || question.fate == Fate::refused) &&
                         question.due - now > -1s && now_ - question.settled_at > 1500ms;
    // An answer waits for ready() as all messages do.
    const bool takes_answers = by_server ? !options_.hold_until_ready || boat.is_ready_there
                                         : !clients_hold_ || boat.is_ready;
    require(
        !(is_calm_ && outcome.ending == Ending::timed_out && in_time && stands && takes_answers),
        name(index) + ": a question timed out whose answer was given in time");
    if (!is_over_ && one_in(4)) {
      ask_again(index, by_server);
    }
    misbehave();
  }
  Question& open_request(Number number, Time now, Duration timeout) {
    Question& question = pending_requests_[number];
    question.due = now + timeout;
    trace("request " + std::to_string(number) + ", due in " +
          std::to_string(timeout / std::chrono::milliseconds(1)) + " ms");
    return question;
  }
  void check_lists() const {
    std::vector<Peer> known;
    for (const auto& [peer, index] : by_peer_) known.push_back(peer);
    require(server_->peers() == known, "the server's list of clients is another one");
    std::set<std::uint32_t> slots;
    for (const Peer peer : known) {
      const std::uint32_t slot = server_->slot(peer);
      require(slot >= 1 && slot <= options_.capacity, "a slot is outside the capacity");
      require(slots.insert(slot).second, "two clients have one slot");
    }
    for (int room = 0; room < 5; ++room) {
      std::vector<Peer> members;
      for (const auto& [peer, rooms] : rooms_) {
        if (rooms.contains(room)) members.push_back(peer);
      }
      const auto there = server_->rooms().members(room);
      require(std::equal(there.begin(), there.end(), members.begin(), members.end()),
              "a room has other members");
    }
  }
  void check_all_is_delivered() const {
    for (std::size_t index = 0; index < boats_.size(); ++index) {
      const Boat& boat = boats_[index];
      if (!boat.client || boat.ended || boat.is_gone) continue;
      require(boat.peer && boat.client->connected(), name(index) + " neither stands nor ended");
      check_owed(index, boat.up, "to the server, at the end");
      check_owed(index, boat.down, "from the server, at the end");
    }
    for (const auto& [number, question] : pending_requests_) {
      require(question.outcomes == 1, "question " + std::to_string(number) + " has " +
                                          std::to_string(question.outcomes) +
                                          " outcomes when all times are out");
    }
  }
  void check_the_end() const {
    if (server_) {
      require(by_peer_.empty() && server_->peers().empty(), "clients are left at the end");
      require(server_->connections() == 0, "connections are left at the end");
    }
    for (std::size_t index = 0; index < boats_.size(); ++index) {
      const Boat& boat = boats_[index];
      if (!boat.client) continue;
      require(boat.client->ended() && boat.ended, name(index) + " does not hear of the end");
    }
  }

  std::mt19937_64 random_;
  bool is_calm_;  // paths and programs that never stand still
  Time now_ = kit::at(0s);
  io::sim::Network network_;
  ServerOptions options_;
  bool clients_hold_ = false;
  Duration server_clock_{};
  std::unique_ptr<WanderingTransport> server_port_;
  std::unique_ptr<WanderingTransport> second_port_;
  std::deque<Boat> boats_;
  std::unordered_map<Endpoint, std::size_t> by_address_;
  std::size_t last_address_ = 0;
  std::map<Peer, std::size_t> by_peer_;
  std::map<Peer, std::set<int>> rooms_;
  std::optional<Peer> owner_;
  std::map<Number, Question> pending_requests_;
  std::deque<Kept> kept_;
  std::deque<Kept> kept_by_clients_;
  Number last_number_ = 0;
  bool is_paused_ = false;
  bool is_over_ = false;
  Time server_asleep_until_{};
  int late_ = 0;  // sends in a row after which next_wakeup() was in the past
  WalkCounts walk_counts_;
  mutable std::string wrong_;
  std::unique_ptr<host::Server> server_;
};

}  // namespace kwind::host_walk
