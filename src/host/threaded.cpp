// A server in two halves: lock-free queues carry messages between the network thread and the game's
// thread.
//
// Pipeline of two threads. Queues are single producer, single consumer (route/handoff.h); nothing
// else is shared but the counters. Order of one peer's events: connected, messages, disconnected.
#include "kwind/host/threaded.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <deque>
#include <mutex>
#include <thread>

#include "kwind/io/clock.h"
#include "kwind/io/waker.h"
#include "kwind/route/handoff.h"

namespace kwind::host {
namespace {

// From the network half to the game half.
struct Inbound {
  enum class What : std::uint8_t { connected, message, disconnected };
  What what = What::message;
  Peer peer{};
  std::uint16_t type = 0;
  std::uint16_t version = 0;
  Errc code = Errc::none;
  std::vector<std::byte> bytes{};  // of the fields
  std::size_t bits = 0;
  std::string text{};
};

// What the game half wants done.
struct Outbound {
  enum class What : std::uint8_t { send, close };
  What what = What::send;
  std::vector<Peer> peers{};
  std::uint16_t type = 0;
  std::uint16_t version = 0;
  std::vector<std::byte> bytes{};
  std::size_t bits = 0;
  std::string text{};
};

constexpr std::size_t kReserve = 64;  // places of the queue that only comings and goings use
constexpr Duration kCountsEvery = std::chrono::milliseconds(100);

}  // namespace

struct ThreadedServer::Halves {
  Halves(std::unique_ptr<io::PollableTransport> port_in, const schema::ProtocolInfo& protocol,
         const ServerOptions& options, const ThreadedOptions& queues)
      : transport(std::move(port_in)),
        linger(options.timeouts.linger),
        server(*transport, protocol, options),
        inbound(queues.inbound + kReserve),
        outbound(queues.outbound) {
    server.on_connect([this](Peer peer) {
      Inbound item;
      item.what = Inbound::What::connected;
      item.peer = peer;
      item.version = server.version(peer);
      put(std::move(item));
    });
    server.on_disconnect([this](Peer peer, Errc code, std::string_view text) {
      Inbound item;
      item.what = Inbound::What::disconnected;
      item.peer = peer;
      item.code = code;
      item.text = text;
      put(std::move(item));
    });
    server.unhandled_checks_owners();  // the game half does
    server.on_unhandled(
        [this](Peer peer, const route::RawMessage& message) { take(peer, message); });
    thread = std::thread([this] { run(); });
  }

  // ---- on the network's thread ----

  // Connects and disconnects are never lost: at most one per connection waits here.
  // Messages of the network thread that found the queue full wait in order; no later one may
  // overtake them.
  void put(Inbound&& item) {
    // NOLINTNEXTLINE(bugprone-use-after-move): what was not taken is untouched
    if (!waiting.empty() || !inbound.put(std::move(item))) waiting.push_back(std::move(item));
    look_at_room();
  }
  // The game's thread has taken some: the oldest that wait go first.
  void put_waiting() {
    while (!waiting.empty() && inbound.put(std::move(waiting.front()))) waiting.pop_front();
    look_at_room();
  }
  // With less than the reserve left the server holds messages back in its windows. So the queue
  // cannot overflow with messages, and only connects and disconnects can wait.
  void look_at_room() { server.pause(!waiting.empty() || inbound.room() <= kReserve); }

  // The message's fields are copied into memory of the slot, which the next message in it uses
  // again.
  void take(Peer peer, const route::RawMessage& message) {
    Inbound* const slot = waiting.empty() ? inbound.put_slot() : nullptr;
    if (slot == nullptr) return;  // cannot be: the server was paused before
    slot->what = Inbound::What::message;
    slot->peer = peer;
    slot->type = message.info.type;
    slot->version = message.version;
    bits::Reader fields = message.fields;
    slot->bits = fields.left_bits();
    slot->bytes.resize(bits::bytes_for(slot->bits));
    fields.get_bits(slot->bytes, slot->bits);
    inbound.put_done();
    look_at_room();
  }

  // The network thread. One turn: what waits, receive, commands of the game, send, counts, sleep.
  void run() {
    Time counts_at{};
    std::optional<Time> end;
    // Ends when stopped, and then when all connections are gone or the time is over.
    while (!end || (io::now() < *end && server.connections() > 0)) {
      Time now = io::now();
      put_waiting();
      server.receive(now);
      // Commands of the game in the order in which they were given.
      while (Outbound* const item = outbound.take_slot()) {
        if (item->what == Outbound::What::close) {
          for (const Peer peer : item->peers) server.close(peer, item->text);
        } else {
          server.send_encoded(item->peers, {item->type, item->version, 0, item->bytes, item->bits});
        }
        outbound.take_done();
      }
      if (stop.load(std::memory_order_acquire) && !end) {
        server.close_all("the server ends");
        end = now + linger + linger;
      }
      now = io::now();
      server.flush(now);
      if (now - counts_at >= kCountsEvery) {
        counts_at = now;
        const std::lock_guard lock(counts_mutex);
        counts = server.counts();
      }
      const std::array<io::PollableTransport*, 1> transports{transport.get()};
      const std::array<int, 1> also{waker.descriptor()};
      io::wait_for_any(transports,
                       end ? std::min(server.next_wakeup(), *end) : server.next_wakeup(), also);
      waker.clear();
    }
  }

  std::unique_ptr<io::PollableTransport> transport;
  // Declaration order is destruction order reversed: the thread ends before what it uses.
  Duration linger;
  Server server;
  route::Handoff<Inbound> inbound;
  route::Handoff<Outbound> outbound;
  std::deque<Inbound> waiting;
  io::Waker waker;
  std::atomic<bool> stop = false;
  std::mutex counts_mutex;  // taken ten times a second
  Counts counts;
  std::thread thread;
};

ThreadedServer::ThreadedServer(std::unique_ptr<io::PollableTransport> transport,
                               const schema::ProtocolInfo& protocol, const ServerOptions& options,
                               const ThreadedOptions& queues)
    : protocol_(protocol),
      dispatcher_(protocol.messages),
      packer_(protocol, schema::Direction::from_server, options.policy),
      rooms_([this](Peer peer) { return versions_.count(peer) > 0; }) {
  // The network half has neither the game's handlers nor a way to learn that a peer is ready.
  KWIND_ASSERT(!options.hold_until_ready && options.max_faults == 0);
  dispatcher_.owned_by(
      [this](Peer peer, const schema::AnyRef& entity) { return owners_.owns(peer, entity); });
  halves_ = std::make_unique<Halves>(std::move(transport), protocol, options, queues);
}

// The thread ends after close frames had their linger, at most twice that long.
ThreadedServer::~ThreadedServer() {
  halves_->stop.store(true, std::memory_order_release);
  halves_->waker.wake();
  halves_->thread.join();
}

// The game's thread. Each item was put by the network thread in the order of events, so that a
// message never comes before the connect of its peer.
void ThreadedServer::receive() {
  hand_over_closes();
  route::Dispatcher<Peer>::Dispatched done;
  // Until the queue is empty: the game decides how often it asks.
  while (Inbound* const item = halves_->inbound.take_slot()) {
    const Peer peer = item->peer;
    switch (item->what) {
      case Inbound::What::connected:
        versions_[peer] = item->version;
        peers_.insert(std::lower_bound(peers_.begin(), peers_.end(), peer), peer);
        on_connect_.each([&](const auto& handler) {
          dispatcher_.guard(peer, nullptr, done, [&] { handler(peer); });
        });
        break;
      case Inbound::What::disconnected:
        versions_.erase(peer);
        std::erase(peers_, peer);
        on_disconnect_.each([&](const auto& handler) {
          dispatcher_.guard(peer, nullptr, done, [&] { handler(peer, item->code, item->text); });
        });
        // Leaving a room may run the game's handlers, so rooms are left one by one.
        while (!rooms_.rooms_of(peer).empty()) {
          dispatcher_.guard(peer, nullptr, done,
                            [&] { rooms_.leave(peer, rooms_.rooms_of(peer).back()); });
        }
        owners_.take_all(peer);
        break;
      case Inbound::What::message: {
        schema::Layout layout;
        layout.version = item->version;
        const auto result =
            dispatcher_.dispatch(peer,
                                 {protocol_.messages[item->type],
                                  bits::Reader(item->bytes, item->bits), item->version, 0},
                                 layout);
        KWIND_ASSERT(!result.penalized);  // CheckResult::blame: nobody here counts faults
        if (result.error != Errc::none) drops_.add(result.error);
        if (result.close) close(peer, error_info(Errc::not_allowed).text);
        break;
      }
    }
    halves_->inbound.take_done();
  }
}

// Commands were put into the queue as they were given; the network thread is woken once.
void ThreadedServer::flush() {
  hand_over_closes();
  halves_->waker.wake();
}

// Encodes once for each version that is spoken, and names all peers of that version in one item.
std::size_t ThreadedServer::hand_over(std::span<const Peer> peers, Peer left_out,
                                      const Pack& pack) {
  std::size_t count = 0;
  refused_ = Errc::no_such_peer;
  // One round for each version; peers of one version share the encoded bytes.
  for (const schema::VersionInfo& entry : protocol_.versions) {
    chosen_.clear();
    for (const Peer peer : peers) {
      const auto found = versions_.find(peer);
      if (peer != left_out && found != versions_.end() && found->second == entry.version) {
        chosen_.push_back(peer);
      }
    }
    if (chosen_.empty()) continue;
    const auto packed = pack(entry.version);
    // What was said before a close goes before it, what is said after it goes after it.
    Outbound* const slot = packed && closes_.empty() ? halves_->outbound.put_slot() : nullptr;
    if (slot == nullptr) {
      refused_ = packed ? Errc::queue_full : packed.error();
      continue;
    }
    slot->what = Outbound::What::send;
    slot->peers.assign(chosen_.begin(), chosen_.end());
    slot->type = packed->type;
    slot->version = packed->version;
    const auto bytes = packed->bytes.first(bits::bytes_for(packed->bits));
    slot->bytes.assign(bytes.begin(), bytes.end());
    slot->bits = packed->bits;
    halves_->outbound.put_done();
    count += chosen_.size();
  }
  return count;
}

// Closes are never lost: at most one per connection waits here while the queue is full.
void ThreadedServer::close(Peer peer, std::string_view reason) {
  if (versions_.count(peer) == 0 || closes_.count(peer) > 0) return;
  closes_.emplace(peer, reason);
  hand_over_closes();
}

// Closes wait in a map of their own until the queue between the threads has room: none is lost.
void ThreadedServer::hand_over_closes() {
  // Until the queue is full.
  while (!closes_.empty()) {
    Outbound* const slot = halves_->outbound.put_slot();
    if (slot == nullptr) return;
    const auto next = closes_.begin();
    slot->what = Outbound::What::close;
    slot->peers.assign(1, next->first);
    slot->text = next->second;
    closes_.erase(next);
    halves_->outbound.put_done();
  }
}

// Counts of the game's half: network_counts() has those of the other thread.
Counts ThreadedServer::counts() const {
  return {.drops = drops_,
          .route = dispatcher_.counts(),
          .values_out_of_range = packer_.out_of_range(),
          .unknown_to_peer = packer_.unknown_to_peer(),
          .encoded = packer_.packed()};
}

// A copy under a lock, at most a tenth of a second old.
Counts ThreadedServer::network_counts() const {
  const std::lock_guard lock(halves_->counts_mutex);
  return halves_->counts;
}

}  // namespace kwind::host
