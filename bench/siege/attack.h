// What attackers of the siege share: whom they attack, what they count, and where they send from.
#pragma once
#include <array>
#include <atomic>
#include <cstring>
#include <functional>
#include <memory>
#include <random>
#include <span>
#include <vector>

#include "kwind/host/client.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"
#include "kwind/link/link.h"
#include "siege.h"

namespace kwind::siege_bench {

using namespace std::chrono_literals;

inline constexpr std::size_t kClients = 100;

struct Target {
  Endpoint udp;
  Endpoint tcp;
  link::PublicKey key{};
};

struct Sent {
  std::atomic<std::uint64_t> datagrams{0};
  std::atomic<std::uint64_t> bytes{0};
  std::atomic<std::uint64_t> answered{0};  ///< bytes that came back
};

/// Runs in a thread of its own until `stop`.
using Attack = std::function<void(const Target&, const std::atomic<bool>& stop, Sent&)>;

inline std::vector<std::byte> bytes_of(Time now) {
  std::vector<std::byte> bytes(8);
  const auto ticks = now.time_since_epoch().count();
  std::memcpy(bytes.data(), &ticks, 8);
  return bytes;
}
/// What attackers put into a stamp: no time, so that the figures of honest clients leave it out.
inline std::vector<std::byte> no_time() {
  return std::vector<std::byte>(4);
}
inline Time time_of(std::span<const std::byte> bytes) {
  Duration::rep ticks = 0;
  if (bytes.size() == 8) std::memcpy(&ticks, bytes.data(), 8);
  return Time(Duration(ticks));
}

/// Sockets of as many addresses: 127.66.0.1 and on.
std::vector<std::unique_ptr<io::UdpTransport>> sockets(std::size_t count);
/// A client's end of a handshake, without a host around it.
link::Link stranger(const Target& target, std::mt19937_64& random,
                    link::TransportKind transport_kind, bool resumes = false);
/// Hands a datagram over and counts it.
void put(Transport& transport, const Endpoint& to, std::span<const std::byte> bytes, Sent& sent);
/// Reads what came back and counts it.
void drain(Transport& transport, Sent& sent);

// ---- strangers: without a connection (strangers.cpp) ----

Attack random_bytes(double per_second);

/// From `addresses`, as fast as one core can: hellos alone; connects with good cookies and nothing
/// behind them; one such connect again and again; handshakes that are answered and never go on; or
/// connects with resume tokens that nobody was given.
enum class Knock : std::uint8_t { hello, junk, replay, unfinished, resume };
Attack knocking(std::size_t addresses, Knock kind);

/// A stream as fast as it goes: a connect that the server cannot open, again and again, on a new
/// stream when the server ends one.
void tcp_flood(const Target& target, const std::atomic<bool>& stop, Sent& sent);
/// 10,000 streams, or as many as the process may have descriptors for; each sends a byte a second.
void whispers(const Target& target, const std::atomic<bool>& stop, Sent& sent);
/// Streams that wait for a server without descriptors.
void no_descriptors(const Target& target, const std::atomic<bool>& stop, Sent& sent);
/// Datagrams from source port 0, which nobody can answer.
void port_zero(const Target& target, const std::atomic<bool>& stop, Sent& sent);

// ---- insiders: clients that are let in (insiders.cpp) ----

/// Sends all that it may and more: messages and opaque payload.
void greedy_client(const Target& target, const std::atomic<bool>& stop, Sent& sent);
/// Records what a client of its own sends, and sends it again, from there and from elsewhere.
void copies(const Target& target, const std::atomic<bool>& stop, Sent& sent);
/// Ten clients that are heard and acknowledge nothing.
void never_acknowledge(const Target& target, const std::atomic<bool>& stop, Sent& sent);
/// Acknowledges what it never got, on one connection after the other.
void acknowledge_unseen(const Target& target, const std::atomic<bool>& stop, Sent& sent);
/// Desync reports and resync requests, 100 in a datagram.
void desync_reports(const Target& target, const std::atomic<bool>& stop, Sent& sent);
/// First pieces of large messages that never go on.
void first_pieces(const Target& target, const std::atomic<bool>& stop, Sent& sent);
/// 1,000 requests that are open at once, of sixteen clients.
void thousand_requests(const Target& target, const std::atomic<bool>& stop, Sent& sent);
/// Messages with references to entities that it cannot see.
void unseen_references(const Target& target, const std::atomic<bool>& stop, Sent& sent);
/// Each datagram from another of sixteen addresses.
void address_moves(const Target& target, const std::atomic<bool>& stop, Sent& sent);

}  // namespace kwind::siege_bench
