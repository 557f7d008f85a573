#include "besieged.h"

#include <malloc.h>
#include <pthread.h>
#include <sched.h>
#include <time.h>
#include <unistd.h>

#include <algorithm>
#include <cmath>
#include <deque>
#include <map>
#include <thread>

#include "kit/failing_calls.h"
#include "kwind/host/replicated_world.h"
#include "kwind/host/replication.h"
#include "kwind/host/server.h"
#include "kwind/host/tick_clock.h"

namespace kwind::siege_bench {
namespace {

constexpr std::size_t kNewcomers = 64;  // sockets that are there before any attack
constexpr Duration kLateOrder = 250ms;

double ms(Duration time) {
  return std::chrono::duration<double, std::milli>(time).count();
}
double thread_cpu() {
  timespec time{};
  ::clock_gettime(CLOCK_THREAD_CPUTIME_ID, &time);
  return static_cast<double>(time.tv_sec) + 1e-9 * static_cast<double>(time.tv_nsec);
}
// What is allocated in the process.
double allocated_mib() {
  const struct mallinfo2 heap = ::mallinfo2();
  return static_cast<double>(heap.uordblks + heap.hblkhd) / 1048576;
}
// The server has the first core for itself, as in a machine of its own. All attackers together have
// the last core, but for what the honest clients need of that core.
void stay_on_core(std::size_t core) {
  cpu_set_t cores;
  CPU_ZERO(&cores);
  CPU_SET(core, &cores);
  (void)::pthread_setaffinity_np(::pthread_self(), sizeof cores, &cores);
}
// A thread with this policy runs while no other thread of its core wants to.
void run_when_idle() {
  const sched_param none{};
  (void)::pthread_setschedparam(::pthread_self(), SCHED_IDLE, &none);
}
std::size_t last_core() {
  return static_cast<std::size_t>(::sysconf(_SC_NPROCESSORS_ONLN) - 1);
}

// Watches a core with a thread that has precedence over all others: if its timer is late, the
// machine stood still, not the server.
class StallGauge {
 public:
  explicit StallGauge(std::size_t core) : thread_([this, core] { run(core); }) {}
  ~StallGauge() {
    stop_ = true;
    thread_.join();
  }
  StallGauge(const StallGauge&) = delete;
  StallGauge& operator=(const StallGauge&) = delete;
  [[nodiscard]] double worst_ms() const { return worst_ms_; }

 private:
  void run(std::size_t core) {
    stay_on_core(core);
    sched_param first{};
    first.sched_priority = 50;
    if (::pthread_setschedparam(::pthread_self(), SCHED_FIFO, &first) != 0) return;
    while (!stop_) {
      const Time before = io::now();
      std::this_thread::sleep_for(500us);
      worst_ms_ = std::max(worst_ms_.load(), ms(io::now() - before) - 0.5);
    }
  }

  std::atomic<bool> stop_ = false;
  std::atomic<double> worst_ms_ = 0;
  std::thread thread_;
};

// Gulls that circle around places of their own.
class Flock {
 public:
  explicit Flock(host::Replication& state) {
    for (int i = 0; i < 60; ++i) gulls_.push_back(*state.spawn(siege::Gull{place(i, 0)}));
  }
  void move(std::uint32_t tick) {
    for (std::size_t i = 0; i < gulls_.size(); ++i) {
      gulls_[i].set(siege::Gull{place(static_cast<int>(i), tick)});
    }
  }

 private:
  static Eigen::Vector2d place(int number, std::uint32_t tick) {
    const double angle = 0.05 * tick + number;
    return {17.0 * number - 500 + 8 * std::cos(angle), 8 * std::sin(angle)};
  }
  std::vector<host::Entity<siege::Gull>> gulls_;
};

// Requests are answered a second after they came.
class Office {
 public:
  explicit Office(host::Server& server) {
    server.on_request<siege::Tide>(
        [this](host::Peer, const siege::Tide&, route::Responder<siege::Tide> responder) {
          open_.emplace_back(io::now() + 1s, std::move(responder));
        });
  }
  void answer(Time now) {
    for (; !open_.empty() && open_.front().first <= now; open_.pop_front()) {
      (void)open_.front().second.reply({2.5});
    }
  }

 private:
  std::deque<std::pair<Time, route::Responder<siege::Tide>>> open_;
};

}  // namespace

double at(std::vector<double>& values, double share) {
  if (values.empty()) return 0;
  std::sort(values.begin(), values.end());
  return values[static_cast<std::size_t>(share * static_cast<double>(values.size() - 1))];
}

// ---- the honest clients ----

struct Besieged::Honest {
  struct End {
    std::unique_ptr<io::UdpTransport> transport;
    std::unique_ptr<host::Client> client;
    std::unique_ptr<host::ReplicatedWorld> world;
    Time dialled{};
    Time next_say{};
    int orders = 0;
  };

  Honest(const Endpoint& server, const link::PublicKey& key, Figures& figures)
      : server_(server), key_(key), figures_(figures) {
    for (std::size_t i = 0; i < kClients + kNewcomers; ++i) {
      sockets_.push_back(std::move(*io::UdpTransport::open(Endpoint::v4(
          127, 1, static_cast<std::uint8_t>(i / 200), static_cast<std::uint8_t>(1 + i % 200), 0))));
    }
    for (std::size_t i = 0; i < kClients; ++i) ends_.push_back(dial());
    // They speak one after the other, half a millisecond apart.
    for (std::size_t i = 0; i < kClients; ++i) ends_[i].next_say = io::now() + kTick * i / kClients;
  }

  void wait_until_all_are_in() {
    const auto all_in = [&] {
      return std::all_of(ends_.begin(), ends_.end(),
                         [](const End& end) { return end.client->connected(); });
    };
    for (const Time by = io::now() + 10s; !all_in() && io::now() < by;) turn();
  }

  // Says what is due, and has somebody new come twice a second, until three seconds before `end`.
  void play(Time end) {
    const Time now = io::now();
    if (!newcomer_ && now >= next_newcomer_ && now + 3s < end && !sockets_.empty()) {
      newcomer_ = dial();
      next_newcomer_ = now + 500ms;
    }
    for (End& each : ends_) {
      if (now >= each.next_say) say(each);
    }
    turn();
  }

  // A fifth of the clients hears what came: a look at all of them would take a core.
  void turn() {
    std::this_thread::sleep_for(500us);
    for (std::size_t i = turns_++ % 5; i < ends_.size(); i += 5) {
      ends_[i].client->receive(io::now());
      ends_[i].client->flush(io::now());
    }
    if (newcomer_) look_at_newcomer();
  }

  [[nodiscard]] std::size_t alive() const {
    return static_cast<std::size_t>(std::count_if(
        ends_.begin(), ends_.end(), [](const End& end) { return end.client->connected(); }));
  }

 private:
  End dial() {
    End end;
    end.transport = std::move(sockets_.back());
    sockets_.pop_back();
    host::ClientOptions who;
    who.server_key = key_;
    end.dialled = io::now();
    end.client =
        std::make_unique<host::Client>(*end.transport, server_, siege::kProtocol, io::now(), who);
    end.world = std::make_unique<host::ReplicatedWorld>(*end.client, siege::kEntities);
    return end;
  }
  void say(End& end) {
    end.next_say = std::max(end.next_say + kTick, io::now());
    if (!end.client->connected()) return;
    (void)end.client->send(siege::Stamp{bytes_of(io::now())});
    if (end.client->send(siege::Order{end.orders, bytes_of(io::now())}) == Errc::none) {
      ++end.orders;
      ++figures_.orders_sent;
    }
    end.client->flush(io::now());
  }
  void look_at_newcomer() {
    host::Client& client = *newcomer_->client;
    client.receive(io::now());
    client.flush(io::now());
    const Duration took = io::now() - newcomer_->dialled;
    if (client.connected()) {
      figures_.admitted_ms.push_back(ms(took));
      client.close("");
      client.flush(io::now());
    } else if (!client.ended() && took < 5s) {
      return;
    } else {
      ++figures_.not_admitted;
    }
    newcomer_.reset();
  }

  Endpoint server_;
  link::PublicKey key_;
  Figures& figures_;
  std::vector<std::unique_ptr<io::UdpTransport>> sockets_;
  std::vector<End> ends_;
  std::optional<End> newcomer_;
  Time next_newcomer_{};
  std::size_t turns_ = 0;
};

// ---- the server ----

Besieged::Besieged() {
  options_.capacity = kClients + 20;
  options_.key = link::KeyPair::from_secret(io::random_secret());
  options_.clock = io::now;
  udp_ = std::move(*io::UdpTransport::open(Endpoint::loopback(0)));
  tcp_ = std::move(*io::TcpTransport::listen(Endpoint::loopback(0)));
}
Besieged::~Besieged() = default;

Target Besieged::target() const {
  return {udp_->local(), tcp_->local(), options_.key->public_key};
}

void Besieged::serve(const std::atomic<bool>& stop, const std::atomic<bool>& measuring,
                     const Fault* fault, Figures& figures) {
  host::Server server(*udp_, siege::kProtocol, options_);
  server.listen_on(*tcp_);
  host::Replication state(server, siege::kEntities, {.view = {.enter = 150, .leave = 170}});
  Flock flock(state);
  Office office(server);
  state.on_client([](host::ClientView& view) { view.set_origin(0, 0); });
  state.on_tick([&](std::uint32_t tick) {
    flock.move(tick);
    server.send_to_all(siege::Stamp{bytes_of(io::now())});
    if (measuring) ++figures.ticks;
  });
  std::optional<Time> begin;
  server.on<siege::Stamp>([&](host::Peer, const siege::Stamp& stamp) {
    if (stamp.nanoseconds.size() != no_time().size() && measuring)
      figures.up_ms.push_back(ms(io::now() - time_of(stamp.nanoseconds)));
  });
  std::map<host::Peer, int> next_order;
  server.on<siege::Order>([&](host::Peer peer, const siege::Order& order) {
    ++figures.orders_heard;
    if (order.number != next_order[peer]++) ++figures.orders_out_of_turn;
    if (!fault || !begin || io::now() - time_of(order.nanoseconds) < kLateOrder) return;
    const Duration since = io::now() - *begin;
    const auto ended = std::find_if(fault->ends.rbegin(), fault->ends.rend(),
                                    [&](Duration end) { return end <= since; });
    if (ended != fault->ends.rend()) {
      figures.recovery_ms = std::max(figures.recovery_ms, ms(since - *ended));
    }
  });
  stay_on_core(0);
  double cpu = 0;
  bool ended = false;
  std::array<io::PollableTransport*, 2> transports{udp_.get(), tcp_.get()};
  kit::let_calls_fail(true);
  while (!stop) {
    if (measuring && !begin) {
      begin = io::now();
      cpu = thread_cpu();
    }
    if (fault && begin) fault->act(io::now() - *begin);
    const double cpu_before = thread_cpu();
    const Time before = io::now();
    server.receive(before);
    if (measuring) {
      figures.longest_receive_ms = std::max(figures.longest_receive_ms, ms(io::now() - before));
      figures.longest_receive_cpu_ms =
          std::max(figures.longest_receive_cpu_ms, 1000 * (thread_cpu() - cpu_before));
    }
    office.answer(before);
    server.flush(io::now());
    if (begin && !measuring && !ended) {
      ended = true;
      const Duration length = io::now() - *begin;
      figures.due = static_cast<std::uint64_t>(length / kTick);
      figures.server_cpu = (thread_cpu() - cpu) / std::chrono::duration<double>(length).count();
    }
    io::wait_for_any(transports, server.next_wakeup());
  }
}

Figures Besieged::run(double seconds, const std::vector<Attack>& attacks, const Fault* fault,
                      Sent& sent) {
  Figures figures;
  std::atomic<bool> stop_server = false;
  std::atomic<bool> measuring = false;
  std::thread server([&] { serve(stop_server, measuring, fault, figures); });
  {
    stay_on_core(last_core());
    Honest honest(udp_->local(), options_.key->public_key, figures);
    honest.wait_until_all_are_in();
    // Histories fill up, and two newcomers have been there.
    for (const Time warm = io::now() + 8s; io::now() < warm;) honest.play(warm);
    figures.admitted_ms.clear();
    figures.mib_before = allocated_mib();
    std::atomic<bool> stop_attack = false;
    std::vector<std::thread> attackers;
    for (const Attack& attack : attacks) {
      attackers.emplace_back([&] {
        stay_on_core(last_core());
        run_when_idle();
        attack(target(), stop_attack, sent);
      });
    }
    const StallGauge first(0);
    const StallGauge last(last_core());
    const Time begin = io::now() + 1s;
    const Time end = begin + Duration(static_cast<Duration::rep>(seconds * 1e9));
    while (io::now() < end) {
      measuring = io::now() >= begin;
      honest.play(end);
    }
    measuring = false;
    figures.machine_stall_ms = std::max(first.worst_ms(), last.worst_ms());
    stop_attack = true;
    for (std::thread& attacker : attackers) attacker.join();
    // Orders that are under way arrive, and what an attack left behind is let go within the
    // handshake's time.
    const Duration rest = attacks.empty() ? Duration(1s) : Duration(7s);
    for (const Time until = io::now() + rest; io::now() < until;) honest.turn();
    figures.alive = honest.alive();
    figures.mib_after = allocated_mib();
    stop_server = true;
    server.join();
  }
  return figures;
}

}  // namespace kwind::siege_bench
