// A server in two halves: the network half, a Server, runs on a thread of its own; the game half,
// this class, is used by the game's thread. Between them are two lock-free queues, so that neither
// waits for the other: acks and repeats go on while a game tick takes long, and a flood of
// datagrams takes no time of the game.
//
//   threaded.receive();   // handlers run, on this thread
//   ... the game ...
//   threaded.flush();     // what it sent leaves
//
// Every call, and every handler, belongs to the game's thread. Requests are not carried across:
// answer them on a Server.
#pragma once
#include <functional>
#include <map>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/host/message_packer.h"
#include "kwind/host/server.h"
#include "kwind/io/pollable_transport.h"
#include "kwind/route/dispatcher.h"
#include "kwind/route/rooms.h"

namespace kwind::host {

/// Sizes of the queues between both halves.
struct ThreadedOptions {
  /// Messages that may wait for receive(). Beyond that reliable and ordered ones wait in their
  /// windows, others are dropped and counted as over_budget.
  std::size_t inbound = 16384;
  std::size_t outbound = 16384;  ///< messages that may wait to be taken over by the network half
};

/// The game's half of a server whose network half has a thread of its own.
class KWIND_API ThreadedServer {
 public:
  /// Serves `protocol`, which must outlive this, on `transport`. The network half starts at once.
  /// Requires: what Server does. `options` may not hold a key_log or a gate that is not safe to be
  /// called from another thread; neither hold_until_ready nor max_faults is set, and no check
  /// returns CheckResult::blame: this server cannot do what they ask for.
  ThreadedServer(std::unique_ptr<io::PollableTransport> transport,
                 const schema::ProtocolInfo& protocol, const ServerOptions& options,
                 const ThreadedOptions& queues = {});
  /// Closes all connections, waits for what was queued at most as long as Timeouts::linger says,
  /// and ends the thread.
  ~ThreadedServer();
  ThreadedServer(const ThreadedServer&) = delete;
  ThreadedServer& operator=(const ThreadedServer&) = delete;

  /// As those of Server.
  template <schema::Message T, class Handler>
  void on(Handler handler) {
    dispatcher_.template on<T>(std::move(handler));
  }
  template <schema::Message T, class Handler>
  Subscription subscribe(Handler handler) {
    return dispatcher_.template subscribe<T>(std::move(handler));
  }
  template <schema::Message T, class Check>
  void check(Check check) {
    dispatcher_.template check<T>(std::move(check));
  }
  void on_unhandled(std::function<void(Peer, const route::RawMessage&)> handler) {
    dispatcher_.on_unhandled(std::move(handler));
  }
  void on_fault(std::function<void(const route::HandlerException<Peer>&)> sink) {
    dispatcher_.on_fault(std::move(sink));
  }
  void on_connect(std::function<void(Peer)> handler) { on_connect_.add(std::move(handler)); }
  void on_disconnect(std::function<void(Peer, Errc, std::string_view)> handler) {
    on_disconnect_.add(std::move(handler));
  }
  [[nodiscard]] route::Owners<Peer>& owners() { return owners_; }
  [[nodiscard]] route::Rooms<Peer>& rooms() { return rooms_; }

  /// Runs the handlers of what has arrived since the last call.
  void receive();
  /// Wakes the network half for what was sent since the last call.
  void flush();

  /// Hands `message` to the network half. Errors: no_such_peer, queue_full (of the pair),
  /// unknown_to_peer, message_too_large, out_of_range under Policy::refuse. What the connection
  /// itself refuses is counted in counts().
  template <schema::Sendable T>
  Errc send(Peer to, const T& message) {
    return send_to({&to, 1}, message) == 1 ? Errc::none : refused_;
  }
  /// The same for many: encoded once for each version. Returns to how many it will be sent.
  template <schema::Sendable T>
  std::size_t send_to(std::span<const Peer> peers, const T& message) {
    return hand_over(peers, Peer{0},
                     [&](std::uint16_t version) { return packer_.pack(message, version); });
  }
  template <schema::Sendable T>
  std::size_t send_to_room(const route::RoomKey& room, const T& message, Peer left_out = Peer{0}) {
    return hand_over(rooms_.members(room), left_out,
                     [&](std::uint16_t version) { return packer_.pack(message, version); });
  }
  template <schema::Sendable T>
  std::size_t send_to_all(const T& message, Peer left_out = Peer{0}) {
    return hand_over(peers_, left_out,
                     [&](std::uint16_t version) { return packer_.pack(message, version); });
  }
  /// Never lost: while the queue to the network half is full it waits, and with it what is sent
  /// after it is refused with queue_full; receive() and flush() hand it over.
  void close(Peer peer, std::string_view reason);

  [[nodiscard]] const std::vector<Peer>& peers() const { return peers_; }
  /// The game half's: what handlers did, and messages that did not fit. `drops` of the network half
  /// are in network_counts().
  [[nodiscard]] Counts counts() const;
  /// The network half's, as of a moment ago.
  [[nodiscard]] Counts network_counts() const;

 private:
  struct Halves;
  using Pack = std::function<Result<PackedMessage>(std::uint16_t version)>;
  std::size_t hand_over(std::span<const Peer> peers, Peer left_out, const Pack& pack);
  void hand_over_closes();

  const schema::ProtocolInfo& protocol_;
  route::Dispatcher<Peer> dispatcher_;
  MessagePacker packer_;
  route::Rooms<Peer> rooms_;
  route::Owners<Peer> owners_;
  route::Observers<Peer> on_connect_;
  route::Observers<Peer, Errc, std::string_view> on_disconnect_;
  std::vector<Peer> peers_;  // in order
  std::map<Peer, std::uint16_t> versions_;
  CauseCounts drops_;
  Errc refused_ = Errc::none;           // why the last hand_over() left somebody out
  std::map<Peer, std::string> closes_;  // that wait for room in the queue
  std::vector<Peer> chosen_;            // scratch
  std::unique_ptr<Halves> halves_;
};

}  // namespace kwind::host
