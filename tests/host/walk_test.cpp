// A random walk over the whole interface of Server and Client against a model: what was sent
// arrives as its channel promises, each question has one outcome, each client that came goes, once,
// and for a cause. On the simulated network, in virtual time; a failure prints its seed.
// KWIND_TRACE=1 prints what happens.
#include <gtest/gtest.h>

#include "host/fleet.h"
#include "kit/sweep.h"

namespace kwind::host_walk {
namespace {

class Walk final : public Fleet {
 public:
  explicit Walk(std::uint64_t seed) : Fleet(seed) {
    options_.key = kit::server_key();
    options_.entropy = kit::entropy(seed);
    options_.capacity = pick<std::size_t>({1, 2, 4, 16});
    options_.resume = is_calm_ || one_in(2) ? 0s : 3s;
    options_.hold_until_ready = one_in(3);
    options_.max_faults = is_calm_ || one_in(2) ? 0 : 3;
    options_.timeouts = kTimeouts;
    clients_hold_ = one_in(3);
    server_port_ =
        std::make_unique<WanderingTransport>(network_.open(kit::SimHosts::kServer), some_clock());
    second_port_ = std::make_unique<WanderingTransport>(
        network_.open(Endpoint::v4(127, 0, 0, 1, 4001)), server_clock_);
    server_ = std::make_unique<host::Server>(*server_port_, kProtocol, options_);
    server_->listen_on(*second_port_);
    listen_at_server();
  }

  void run() {
    for (const Time end = now_ + 6s; now_ < end;) step(true);
    settle();
    for (const Time end = now_ + 9s; now_ < end;) step(false);
    check_all_is_delivered();
    if (one_in(8)) {
      server_.reset();
    } else {
      server_->close_all("the harbour closes");
      for (Boat& boat : boats_) boat.is_closed_there = true;
    }
    for (const Time end = now_ + 4s; now_ < end;) step(false);
    check_the_end();
    boats_.clear();
    kept_.clear();
    kept_by_clients_.clear();
    server_.reset();
    check_handlers();
    for (const auto& [number, question] : pending_requests_) {
      require(question.outcomes == 1, "question " + std::to_string(number) + " has " +
                                          std::to_string(question.outcomes) + " outcomes");
    }
  }

 private:
  void ask_again(std::size_t boat, bool by_server) override {
    by_server ? request_client(boat) : request_server(boat);
  }

  template <class T>
  void receive_at_server(Stream Streams::*stream) {
    server_->on<T>([this, stream](Peer peer, const T& message) {
      const std::size_t index = boat_of(peer);
      arrived(index, true, boats_[index].up.*stream, message.number, message.body);
      react_at_server(index);
      misbehave();
    });
  }
  template <class T>
  void receive_at_client(std::size_t index, Stream Streams::*stream) {
    boats_[index].client->template on<T>([this, index, stream](const T& message) {
      arrived(index, false, boats_[index].down.*stream, message.number, message.body);
      react_at_client(index);
      misbehave();
    });
  }
  void listen_at_server() {
    receive_at_server<Sure>(&Streams::sure);
    receive_at_server<Slow>(&Streams::sure);
    receive_at_server<Each>(&Streams::each);
    receive_at_server<State>(&Streams::state);
    receive_at_server<Spark>(&Streams::spark);
    server_->check<Spark>([](Peer, const Spark& spark) {
      return spark.number % 7 == 0 ? route::CheckResult::drop : route::CheckResult::accept;
    });
    server_->on<Spark>([this](Peer, const Spark& spark) {
      require(spark.number % 7 != 0, "a message passed a check that drops it");
    });
    server_->on<Helm>([this](Peer peer, const Helm& helm) {
      const std::size_t index = boat_of(peer);
      require(owner_ == peer, "a message from owner of an entity came from somebody else");
      arrived(index, true, boats_[index].up.each, helm.number, helm.body);
    });
    server_->on_request<AskServer>(
        [this](Peer, const AskServer& asked, route::Responder<AskServer> responder) {
          answer_or_keep(asked.number, std::move(responder), kept_);
        });
    server_->on_connect([this](Peer peer) { attach(peer, false); });
    server_->on_resume([this](Peer peer) { attach(peer, true); });
    server_->on_disconnect([this](Peer peer, Errc code, std::string_view) {
      const std::size_t index = boat_of(peer);
      Boat& boat = boats_[index];
      trace("the server reports the end of " + name(index) + ": " +
            std::string(error_info(code).name));
      ++walk_counts_.ends[code];
      require(!boat.is_gone, "a client's end is reported twice");
      boat.is_gone = true;
      check_cause_at_server(index, code);
      require(server_->slot(peer) != 0, "a client has no slot in on_disconnect");
      // Messages that wait for ready() are dropped when the client leaves.
      const bool held = options_.hold_until_ready && !boat.is_ready_there;
      if (code == Errc::closed_by_peer && is_calm_ && !held && !boat.is_closed_there)
        check_owed(index, boat.up, "client's close");
      by_peer_.erase(peer);
      rooms_.erase(peer);
      if (owner_ == peer) owner_.reset();
      misbehave();
    });
  }

  void attach(Peer peer, bool resumed) {
    const Endpoint* address = server_->address(peer);
    require(address != nullptr, "a client that is there has no address");
    const auto found = by_address_.find(*address);
    require(found != by_address_.end(), "a client comes from nowhere");
    Boat& boat = boats_[found->second];
    require(!boat.peer, name(found->second) + " is two peers");
    require(by_peer_.contains(peer) == resumed, "a peer's number is used again");
    require(!resumed || boat.resumes, "a client resumes that did not want to");
    if (resumed) {
      boats_[by_peer_[peer]].is_gone = true;
      ++walk_counts_.resumed;
    }
    by_peer_[peer] = found->second;
    boat.peer = peer;
    trace("server has " + name(found->second));
    misbehave();
  }

  void asked(Number number, Errc error) {
    if (error == Errc::none) return;
    require(pending_requests_.at(number).outcomes == 0,
            "an outcome of a question that was refused");
    pending_requests_.erase(number);
  }
  void request_server(std::size_t index) {
    Boat& boat = boats_[index];
    if (!boat.client) return;
    const Number number = next_number();
    const Duration timeout = 20ms + up_to(6s);
    open_request(number, client_now(boat), timeout);
    asked(number, boat.client->request(AskServer{number}, timeout,
                                       [this, index, number](const Outcome<AskServer>& outcome) {
                                         settled(index, number, outcome, false);
                                       }));
  }
  void request_client(std::size_t index) {
    if (!server_ || !boats_[index].peer) return;
    const Number number = next_number();
    const Duration timeout = 20ms + up_to(6s);
    open_request(number, server_now(), timeout);
    asked(number, server_->request(*boats_[index].peer, AskClient{number}, timeout,
                                   [this, index, number](const Outcome<AskClient>& outcome) {
                                     settled(index, number, outcome, true);
                                   }));
  }
  static route::Task talk(Walk& walk, std::size_t index, int times) {
    for (int i = 0; i < times; ++i) {
      const Number number = walk.next_number();
      Boat& boat = walk.boats_[index];
      if (!boat.client) co_return;
      walk.open_request(number, walk.client_now(boat), 1s);
      const auto outcome = co_await boat.client->request(AskServer{number}, 1s);
      if (outcome.ending == Ending::not_sent) {
        walk.pending_requests_.erase(number);
        co_return;
      }
      walk.settled(index, number, outcome, false);
    }
  }

  // ---- acts ----
  template <class T>
  static T made(Number number) {
    T message;
    message.number = number;
    message.body = body_of(number);
    return message;
  }
  void allow(Errc error, bool limited = false) const {
    require(error == Errc::queue_full || error == Errc::closed || error == Errc::no_such_peer ||
                (limited && error == Errc::rate_limited),
            "sending fails with " + std::string(error_info(error).name));
  }
  template <class T>
  void send_up(std::size_t index, Stream Streams::*stream, bool limited = false) {
    Boat& boat = boats_[index];
    const Number number = next_number();
    const Errc error = boat.client->send(made<T>(number));
    trace("sent up " + std::string(T::info().name) + " " + std::to_string(number) + " " +
          std::string(error_info(error).name));
    if (error == Errc::none) return (boat.up.*stream).sent(number);
    require(error != Errc::closed || !boat.is_connected || boat.ended || boat.closes ||
                boat.is_closed_there || options_.max_faults > 0,
            name(index) + " cannot send");
    allow(error, limited);
  }
  template <class T>
  void send_down(const Boat& boat, Stream& stream) {
    const Number number = next_number();
    const Errc error = server_->send(*boat.peer, made<T>(number));
    if (error == Errc::none) return stream.sent(number);
    allow(error);
  }
  void send_from_client(std::size_t index) {
    Boat& boat = boats_[index];
    if (!boat.client) return;
    switch (below(6)) {
      case 0: return send_up<Sure>(index, &Streams::sure);
      case 1: return send_up<Each>(index, &Streams::each);
      case 2: return send_up<State>(index, &Streams::state);
      case 3: return send_up<Spark>(index, &Streams::spark);
      case 4: return send_up<Slow>(index, &Streams::sure, true);
      default: break;
    }
    Helm helm = made<Helm>(next_number());
    helm.tug = schema::Ref<Tug>{7, 1};
    // Whether the client owns the tug when this arrives is not known here.
    if (boat.client->send(helm) == Errc::none) boat.up.each.sent(helm.number, false);
  }
  void send_from_server(std::size_t index) {
    Boat& boat = boats_[index];
    if (!boat.peer) return;
    switch (below(4)) {
      case 0: return send_down<Sure>(boat, boat.down.sure);
      case 1: return send_down<Each>(boat, boat.down.each);
      case 2: return send_down<State>(boat, boat.down.state);
      default: return send_down<Spark>(boat, boat.down.spark);
    }
  }
  template <class T>
  void fan_out(Stream Streams::*stream) {
    const Number number = next_number();
    std::vector<Peer> to;
    std::size_t count = 0;
    switch (below(3)) {
      case 0:
        for (const auto& [peer, index] : by_peer_) to.push_back(peer);
        count = server_->send_to_all(made<T>(number));
        break;
      case 1:
        for (const auto& [peer, rooms] : rooms_) {
          if (rooms.contains(3)) to.push_back(peer);
        }
        count = server_->send_to_room(3, made<T>(number));
        break;
      default:
        for (const auto& [peer, index] : by_peer_) {
          if (one_in(2)) to.push_back(peer);
        }
        count = server_->send_to(to, made<T>(number));
    }
    require(count <= to.size(), "a message went to more clients than it was for");
    for (const Peer peer : to) {
      (boats_[boat_of(peer)].down.*stream).sent(number, count == to.size());
    }
  }
  void react_at_server(std::size_t index) {
    if (is_over_) return;
    switch (below(40)) {
      case 0: return send_from_server(index);
      case 1: return request_client(index);
      case 2: return close_at_server(some_boat());
      case 3: return fan_out<Each>(&Streams::each);
      case 4: boats_[index].subscription.reset(); return;
      default: return;
    }
  }
  void react_at_client(std::size_t index) {
    if (is_over_) return;
    switch (below(60)) {
      case 0: return send_from_client(index);
      case 1: return request_server(index);
      case 2: return close_at_client(index);
      default: return;
    }
  }
  void close_at_server(std::size_t index) {
    Boat& boat = boats_[index];
    if (!boat.peer || !one_in(4)) return;
    // Only of the connection that stands now: the peer may be another boat's meanwhile.
    const auto found = by_peer_.find(*boat.peer);
    if (found == by_peer_.end()) return server_->close(*boat.peer, "gone already");
    boats_[found->second].is_closed_there = true;
    server_->close(*boat.peer, "out of the harbour");
  }
  void close_at_client(std::size_t index) {
    Boat& boat = boats_[index];
    if (!boat.client) return;
    trace("close at " + name(index));
    boat.closes = true;
    boat.client->close("home");
  }

  io::sim::SimTransport& open_port(std::size_t index) {
    const std::size_t number = ++last_address_;
    const Endpoint address = Endpoint::v4(127, 0, static_cast<std::uint8_t>(1 + number / 250),
                                          static_cast<std::uint8_t>(number % 250 + 1), 5000);
    by_address_[address] = index;
    return network_.open(address);
  }
  void join(std::optional<Secret32> resume = {}) {
    const std::size_t index = boats_.size();
    Boat& boat = boats_.emplace_back();
    trace("client " + std::to_string(index) + " joins" + (resume ? " again" : ""));
    boat.clock = 1s * below(100000) - 500s;
    boat.joined = now_;
    boat.is_disturbed = now_ < server_asleep_until_;
    boat.transport = std::make_unique<WanderingTransport>(open_port(index), boat.clock);
    boat.resumes = resume.has_value();
    ClientOptions options;
    options.server_key = kit::server_key().public_key;
    options.entropy = kit::entropy(random_());
    options.timeouts = kTimeouts;
    options.hold_until_ready = clients_hold_;
    options.resume = std::move(resume);
    const Endpoint server = (one_in(2) ? server_port_ : second_port_)->local();
    boat.client =
        std::make_unique<Client>(*boat.transport, server, kProtocol, client_now(boat), options);
    receive_at_client<Sure>(index, &Streams::sure);
    receive_at_client<Each>(index, &Streams::each);
    receive_at_client<State>(index, &Streams::state);
    receive_at_client<Spark>(index, &Streams::spark);
    boat.client->on_request<AskClient>(
        [this](const AskClient& asked, route::Responder<AskClient> responder) {
          answer_or_keep(asked.number, std::move(responder), kept_by_clients_);
        });
    boat.client->on_connect([this, index] {
      require(!boats_[index].is_connected, "on_connect is called twice");
      boats_[index].is_connected = true;
      misbehave();
    });
    boat.client->on_disconnect([this, index](Errc code, std::string_view) {
      Boat& ended = boats_[index];
      trace(name(index) + " hears " + std::string(error_info(code).name));
      require(!ended.ended, "on_disconnect is called twice");
      ended.ended = code;
      check_cause_at_client(index, code);
      const bool held = clients_hold_ && !ended.is_ready;
      if (code == Errc::closed_by_peer && is_calm_ && !held && !ended.closes && server_) {
        check_owed(index, ended.down, "the server's close");
      }
      misbehave();
    });
  }
  void change_path(Boat& boat) {
    io::sim::Conditions conditions{.delay = 5ms + up_to(100ms), .jitter = 0ms};
    if (one_in(2)) conditions.jitter = up_to(conditions.delay);
    if (one_in(2)) conditions.loss = 0.0001 * static_cast<double>(below(is_calm_ ? 200 : 3000));
    if (one_in(3)) conditions.duplicate = 0.1;
    if (one_in(3)) conditions.reorder = 0.1;
    if (!is_calm_ && one_in(6)) conditions.loss = 1;
    if (conditions.loss > 0.05) boat.is_disturbed = true;
    for (const auto& transport : {server_port_->local(), second_port_->local()}) {
      network_.set_conditions(boat.transport->local(), transport, conditions);
      network_.set_conditions(transport, boat.transport->local(), conditions);
    }
  }
  void act_at_client(std::size_t index) {
    Boat& boat = boats_[index];
    if (boat.client == nullptr) return;
    if (clients_hold_ && !boat.is_ready && one_in(20)) {
      boat.is_ready = true;
      boat.client->ready();
    }
    if (one_in(6)) {
      for (auto count = below(12); count > 0; --count) send_from_client(index);
    }
    if (one_in(20)) request_server(index);
    if (one_in(200)) boat.client->start(talk(*this, index, 3));
    if (one_in(400)) close_at_client(index);
    if (one_in(200)) change_path(boat);
    if (is_calm_) return;
    if (one_in(300)) {
      trace("moves: " + name(index));
      boat.transport->move_to(open_port(index));
    }
    if (one_in(500)) sleep(boat);
    if (one_in(500)) kill(index);
  }
  void sleep(Boat& boat) {
    const Duration time = up_to(5s);
    boat.asleep_until = now_ + time;
    if (time > 300ms) boat.is_disturbed = true;
  }
  // The program is gone without a word; the next one may go on from what it saved.
  void kill(std::size_t index) {
    Boat& boat = boats_[index];
    const auto saved = boat.client->resume();
    boat.is_killed = true;
    boat.client.reset();
    if (one_in(2)) join(saved ? std::optional(saved->secret) : std::nullopt);
  }
  void act_at_server() {
    if (boats_.size() < 8 && one_in(30)) join();
    for (std::size_t index = 0; index < boats_.size(); ++index) {
      Boat& boat = boats_[index];
      if (!boat.peer || boat.is_gone) continue;
      if (options_.hold_until_ready && !boat.is_ready_there && one_in(20)) {
        boat.is_ready_there = true;
        server_->ready(*boat.peer);
      }
      if (one_in(6)) {
        for (auto count = below(12); count > 0; --count) send_from_server(index);
      }
      if (one_in(20)) request_client(index);
      if (one_in(100)) close_at_server(index);
      if (boat.is_gone) continue;
      if (one_in(30)) change_rooms(*boat.peer);
      if (one_in(50)) {
        server_->owners().give(schema::Ref<Tug>{7, 1}, *boat.peer);
        owner_ = *boat.peer;
      }
      if (one_in(50)) {
        boat.subscription.emplace(server_->subscribe<Each>([this, index](Peer, const Each&) {
          require(boats_[index].subscription.has_value(), "called after its subscription ended");
        }));
      }
    }
    if (one_in(10)) fan_out<Sure>(&Streams::sure);
    if (one_in(10)) fan_out<State>(&Streams::state);
    if (is_calm_) return;
    if (one_in(is_paused_ ? 50 : 300)) {
      is_paused_ = !is_paused_;
      server_->pause(is_paused_);
      for (Boat& boat : boats_) boat.is_disturbed = true;
    }
    if (one_in(500)) {
      server_asleep_until_ = now_ + up_to(5s);
      for (Boat& boat : boats_) boat.is_disturbed = true;
    }
  }
  void change_rooms(Peer peer) {
    const int room = static_cast<int>(below(5));
    if (one_in(2)) {
      require(server_->rooms().enter(peer, room) == rooms_[peer].insert(room).second,
              "entering a room says otherwise");
    } else {
      require(server_->rooms().leave(peer, room) == (rooms_[peer].erase(room) > 0),
              "leaving a room says otherwise");
    }
  }

  // ---- time ----
  void step(bool acts) {
    now_ += acts ? 1ms + up_to(25ms) : 10ms;
    const Duration skew = one_in(4) ? up_to(8ms) : 0ms;
    if (server_ && now_ >= server_asleep_until_) {
      server_->receive(server_now());
      check_lists();
      acts ? act_at_server() : let_all_through();
      answer_kept(kept_, false);
      server_->flush(server_now() + skew);
      // One early wake-up does no harm; a loop that waits for a time in the past never sleeps.
      late_ = server_->next_wakeup() < server_now() - 1ms ? late_ + 1 : 0;
      require(late_ < 4, "next_wakeup() stays in the past");
    }
    for (std::size_t index = 0; index < boats_.size(); ++index) {
      Boat& boat = boats_[index];
      if (server_) boat.max_there = std::max(boat.max_there, server_->connections());
      if (!boat.client || now_ < boat.asleep_until) continue;
      boat.client->receive(client_now(boat));
      if (acts) act_at_client(index);
      if (!boat.client) continue;
      boat.client->flush(client_now(boat) + skew);
      require(!is_calm_ || boat.is_connected || boat.ended || boat.closes ||
                  now_ - boat.joined < 1900ms || !server_,
              name(index) + " waits for its connection");
    }
    answer_kept(kept_by_clients_, false);
    check_handlers();
  }
  void let_all_through() {
    for (Boat& boat : boats_) {
      if (boat.client && !boat.is_ready) boat.client->ready();
      boat.is_ready = true;
      if (!boat.peer || boat.is_ready_there || boat.is_gone) continue;
      boat.is_ready_there = true;
      server_->ready(*boat.peer);
    }
  }
  // From here on no path loses anything, and all programs run.
  void settle() {
    is_over_ = true;
    is_paused_ = false;
    server_->pause(false);
    server_asleep_until_ = now_;
    for (Boat& boat : boats_) {
      boat.asleep_until = now_;
      for (const auto& transport : {server_port_->local(), second_port_->local()}) {
        network_.set_conditions(boat.transport->local(), transport, {.delay = 20ms});
        network_.set_conditions(transport, boat.transport->local(), {.delay = 20ms});
      }
    }
    answer_kept(kept_, true);
    answer_kept(kept_by_clients_, true);
  }
};

TEST(HostWalk, HoldsAgainstTheModel) {
  Fleet::WalkCounts all;
  const auto seeds = kit::seeds(kit::kSanitized ? 100 : 2000, 50000);
  for (const std::uint64_t seed : seeds) {
    Walk walk(seed);
    try {
      walk.run();
    } catch (const Wrong& wrong) {
      ADD_FAILURE() << "seed " << seed << ", at " << wrong.what();
      return;
    }
    all += walk.walk_counts();
  }
  if (seeds.size() < 100) return;
  // The walk has been where it should have been.
  EXPECT_GT(all.messages, 300 * seeds.size());
  EXPECT_GT(all.thrown, seeds.size());
  EXPECT_GT(all.resumed, seeds.size() / 20);
  for (const Ending ending : {Ending::replied, Ending::refused, Ending::abandoned,
                              Ending::timed_out, Ending::disconnected}) {
    EXPECT_GT(all.endings[ending], seeds.size() / 4) << static_cast<int>(ending);
  }
  for (const Errc end :
       {Errc::closed_here, Errc::closed_by_peer, Errc::timeout, Errc::too_many_faults}) {
    EXPECT_GT(all.ends[end], seeds.size() / 10) << error_info(end).name;
  }
}

}  // namespace
}  // namespace kwind::host_walk
