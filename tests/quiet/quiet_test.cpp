// After warm-up a server's tick, and encoding and decoding, allocate nothing: counted by replacing
// operator new.
#include <gtest/gtest.h>

#include <array>
#include <cmath>
#include <cstdlib>
#include <deque>
#include <memory>
#include <new>
#include <numbers>

#include "hails.h"
#include "host_test.h"
#include "kit/sim_pair.h"
#include "kwind/host/client.h"
#include "kwind/host/server.h"
#include "kwind/replica/client_world.h"
#include "kwind/replica/interest.h"
#include "lookout.h"
#include "quiet/allocations.h"

// Not inlined: g++ would take malloc and free for mates of the others.
[[gnu::noinline]] void* operator new(std::size_t size) {
  ++kwind::quiet::allocations;
  kwind::quiet::allocated_bytes += size;
  if (void* memory = std::malloc(size)) return memory;
  throw std::bad_alloc();
}
[[gnu::noinline]] void* operator new(std::size_t size, const std::nothrow_t&) noexcept {
  ++kwind::quiet::allocations;
  kwind::quiet::allocated_bytes += size;
  return std::malloc(size);
}
[[gnu::noinline]] void operator delete(void* memory) noexcept {
  std::free(memory);
}
[[gnu::noinline]] void operator delete(void* memory, std::size_t) noexcept {
  std::free(memory);
}

[[gnu::noinline]] void* operator new(std::size_t size, std::align_val_t align) {
  ++kwind::quiet::allocations;
  kwind::quiet::allocated_bytes += size;
  const std::size_t unit = static_cast<std::size_t>(align);
  if (void* memory = std::aligned_alloc(unit, (size + unit - 1) / unit * unit)) return memory;
  throw std::bad_alloc();
}
[[gnu::noinline]] void operator delete(void* memory, std::align_val_t) noexcept {
  std::free(memory);
}
[[gnu::noinline]] void operator delete(void* memory, std::size_t, std::align_val_t) noexcept {
  std::free(memory);
}

namespace kwind::host {
namespace quiet_test {

using namespace std::chrono_literals;
using namespace host_test;
using kit::at;

// Two ports joined by rings of fixed size: the wire itself must not allocate either.
class FixedTransport final : public Transport {
 public:
  explicit FixedTransport(Endpoint local) : local_(local) {}
  void join(FixedTransport& other) { peer_ = &other; }
  Endpoint local() const override { return local_; }
  std::optional<ReceivedDatagram> receive(Time) override {
    if (begin_ == end_) return std::nullopt;
    Slot& slot = ring_[begin_++ % ring_.size()];
    return ReceivedDatagram{peer_->local_, std::span(slot.bytes).first(slot.size)};
  }
  void send(Time, const Endpoint&, std::span<const std::byte> bytes) override {
    Slot& slot = peer_->ring_[peer_->end_++ % peer_->ring_.size()];
    std::copy(bytes.begin(), bytes.end(), slot.bytes.begin());
    slot.size = bytes.size();
  }
  void flush(Time) override {}
  const TransportCounts& counts() const override { return counts_; }

 private:
  struct Slot {
    std::array<std::byte, 1200> bytes;
    std::size_t size;
  };
  Endpoint local_;
  FixedTransport* peer_ = nullptr;
  std::array<Slot, 64> ring_{};
  std::size_t begin_ = 0;
  std::size_t end_ = 0;
  TransportCounts counts_;
};

// A server and a client at the two ends.
struct Joined {
  explicit Joined(const schema::ProtocolInfo& protocol)
      : server(server_port, protocol, server_options()),
        client(client_port, server_port.local(), protocol, at(0s), client_options()) {
    server_port.join(client_port);
    client_port.join(server_port);
  }
  static ServerOptions server_options() {
    ServerOptions options;
    options.entropy = Key128{};
    options.key = kit::server_key();
    return options;
  }
  static ClientOptions client_options() {
    ClientOptions options;
    options.entropy = Key128{};
    options.server_key = kit::server_key().public_key;
    return options;
  }
  FixedTransport server_port{Endpoint::loopback(4000)};
  FixedTransport client_port{Endpoint::loopback(5000)};
  Server server;
  Client client;
};

TEST(Quiet, ASteadyTickAllocatesNothing) {
  Joined joined(kProtocol);
  Server& server = joined.server;
  Client& client = joined.client;
  int heard = 0;
  const Said said{1, 2, "a text of some length"};
  server.on<Say>([&](Peer, const Say&) { heard += static_cast<int>(server.send_to_all(said)); });
  server.on<Steer>([&](Peer, const Steer&) { server.send_to_room("pier", Place{5}); });
  server.check<Say>([](Peer, const Say&) { return route::CheckResult::accept; });
  server.on_connect([&](Peer peer) { server.rooms().enter(peer, "pier"); });
  client.on<Said>([&](const Said&) { ++heard; });
  client.on<Place>([&](const Place&) { ++heard; });
  const Say say{1, "another text, longer than 15"};
  // 600 datagrams each way see every slot of every ring used once.
  std::size_t counted_from = 0;
  for (int tick = 0; tick < 2000; ++tick) {
    if (tick == 1000) counted_from = quiet::allocations;
    const Time now = at(tick * 50ms);
    client.receive(now);
    server.receive(now);
    if (client.connected()) {
      (void)client.send(say);
      (void)client.send(Steer{0.5});
    }
    server.flush(now);
    client.flush(now);
  }
  EXPECT_EQ(quiet::allocations - counted_from, 0U);
  EXPECT_GT(heard, 5000);
}

// Gulls that circle, so that they come into view and leave it again and again.
struct CirclingGulls {
  CirclingGulls() {
    for (int i = 0; i < 100; ++i) {
      const lookout::Gull gull{i * 3.6, 10, {i * 8 - 400, i % 7 * 40 - 120}};
      all.emplace_back(*world.spawn(gull), gull);
    }
    query.set_origin(0, 0);
  }
  void step() {
    for (auto& [ref, gull] : all) {  // once around in 360 ticks
      gull.bearing = std::fmod(gull.bearing + 1, 360);
      const double angle = gull.bearing * std::numbers::pi / 180;
      gull.at += Eigen::Vector2d(std::cos(angle), std::sin(angle)) * gull.speed / 20;
      world.put(ref, gull);
    }
    world.end_tick();
  }
  replica::World world{lookout::kEntities};
  std::vector<std::pair<schema::Ref<lookout::Gull>, lookout::Gull>> all;
  replica::Interest interest{world, {.enter = 200, .leave = 205}};
  replica::InterestQuery query{interest};
};

// For one who looks on and hears of it over a path of a tick each way.
TEST(Quiet, ASteadyTickOfStateAllocatesNothing) {
  Joined joined(lookout::kProtocol);
  Server& server = joined.server;
  Client& client = joined.client;

  CirclingGulls gulls;
  replica::ClientReplicator replicator(gulls.world);
  replicator.bind(&gulls.query);
  Peer peer{};
  server.on_connect([&](Peer who) { peer = who; });
  replica::ClientWorld client_world(lookout::kEntities);
  std::size_t frames = 0;
  client.on_payload([&](std::span<const std::byte> payload, std::size_t bits) {
    ++frames;
    const Errc error = client_world.receive(payload, bits);
    (void)client_world.take_events();
    return error;
  });
  std::size_t at_server = 0;
  std::size_t at_client = 0;
  for (int tick = 0; tick < 3000; ++tick) {
    if (tick == 2000) at_server = at_client = 0;
    const Time now = at(tick * 50ms);
    std::size_t before = quiet::allocations;
    client.receive(now);
    client.flush(now);
    at_client += quiet::allocations - before;
    before = quiet::allocations;
    server.receive(now);
    gulls.step();
    if (peer != Peer{}) server.schedule_payload(peer, &replicator, 1);
    server.flush(now);
    at_server += quiet::allocations - before;
  }
  EXPECT_EQ(at_server, 0U);
  EXPECT_EQ(at_client, 0U);
  EXPECT_GT(frames, 2900U);
  EXPECT_GT(replicator.counts().gone, 100U) << "they come and go";
  EXPECT_GT(client_world.size(), 30U);
}

// For several who see the same, and of whom one or another hears a tick late now and then.
TEST(Quiet, ViewersInStepAllocateNothing) {
  struct One {
    explicit One(CirclingGulls& gulls) : replicator(gulls.world) { replicator.bind(&gulls.query); }
    replica::ClientReplicator replicator;
    std::array<std::optional<std::uint64_t>, 2> unhandled{};
  };
  CirclingGulls gulls;
  std::vector<std::unique_ptr<One>> all;
  for (int i = 0; i < 6; ++i) all.push_back(std::make_unique<One>(gulls));
  std::array<std::byte, 1200> memory{};
  std::size_t counted_from = 0;
  for (std::uint64_t tick = 0; tick < 3000; ++tick) {
    if (tick == 2000) counted_from = quiet::allocations;
    gulls.step();
    for (std::size_t i = 0; i < all.size(); ++i) {
      One& one = *all[i];
      const bool late = tick % 50 == 10 * i && one.unhandled[0];
      if (!late) {
        for (auto& token : one.unhandled) {
          if (token) one.replicator.acked(*token);
          token.reset();
        }
      }
      bits::Writer out(memory);
      one.unhandled[late ? 1 : 0] = one.replicator.fill(Time{}, out);
    }
  }
  EXPECT_EQ(quiet::allocations - counted_from, 0U);
  EXPECT_GT(gulls.world.shared_bits().shared, gulls.world.shared_bits().written * 3) << "in step";
}

// Encodes and decodes into the same storage again and again.
template <class T>
std::size_t allocations_of_codec(const T& message) {
  std::array<std::byte, 1104> memory{};
  T back;
  std::size_t before = 0;
  for (int i = 0; i < 10; ++i) {
    if (i == 1) before = quiet::allocations;
    const auto encoded = schema::encode_message(message, memory);
    if (!encoded || schema::decode_message(memory, encoded->bits, back) != Errc::none) return 1;
  }
  EXPECT_EQ(back, message);
  return quiet::allocations - before;
}

TEST(Quiet, CodecsReuseTheStorageOfTheirTarget) {
  const std::string words = "a text that no short string holds inside itself";
  hails::Notice notice;
  notice.words = words;
  notice.mark = hails::Mark{5, 7.5};
  EXPECT_EQ(allocations_of_codec(notice), 0U);
  hails::Weather weather;
  weather.gusts = {1, 2, 3.5, 4, 5, 6, 7, 8, 9};
  EXPECT_EQ(allocations_of_codec(weather), 0U);
  hails::AskBerthAnswer answer;
  answer.outcome = hails::AskBerthAnswer::Outcome::Refused{{hails::AskBerthRefusal::full, words}};
  EXPECT_EQ(allocations_of_codec(answer), 0U);
}

TEST(Quiet, MessagesOfFixedSizeNeverAllocate) {
  const std::size_t before = quiet::allocations;
  const hails::AskBerth ask{30};
  std::array<std::byte, 8> memory{};
  const auto encoded = schema::encode_message(ask, memory);
  hails::AskBerth back;
  const Errc error = schema::decode_message(memory, encoded->bits, back);
  EXPECT_EQ(quiet::allocations, before);
  EXPECT_EQ(error, Errc::none);
  EXPECT_EQ(back, ask);
}

}  // namespace quiet_test
}  // namespace kwind::host
