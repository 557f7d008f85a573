// What a capture says about connections: each datagram taken apart, every bit of it accounted to a
// message kind or to a part of the link, and where messages travelled again and why. Plain values;
// one account, one thread.
#pragma once
#include <cstdint>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "kwind/capture/pcapng.h"
#include "kwind/link/observer.h"
#include "kwind/schema/protocol.h"
#include "kwind/schema/runtime.h"

namespace kwind::capture {

/// Why a message travelled again.
enum class Again : std::uint8_t {
  no,         ///< it did not
  redundant,  ///< sent before any sign of a loss, also on a `repeat` channel
  lost,       ///< the peer's acks had left out the packet that it was in
  probe,      ///< no acknowledgement came for longer than a round trip
  spurious,   ///< an ack of it had passed here already
};
std::string_view again_text(Again again);

/// A part of a datagram, named.
struct Entry {
  link::ObservedPart part;
  std::string label;  ///< message kind, "header", "acks", ...
  int kind = -1;      ///< of a message: its place in Protocol::messages
  std::string channel{};
  std::size_t type_bits = 0;  ///< of the payload: which kind it is
  Again again = Again::no;
  std::uint64_t before = 0;    ///< again: the packet that carried it last
  std::int64_t after_ns = 0;   ///< ... that much earlier
  schema::Explained fields{};  ///< of a whole message; empty without AccountOptions::fields
};

/// A datagram of a capture, and what each part of it is.
struct Line {
  std::int64_t unix_ns = 0;
  Endpoint from;
  Endpoint to;
  link::ObservedDatagram datagram;
  std::vector<Entry> entries;  ///< as datagram.parts
};

/// A row of the account: bits are those of UDP payloads, but for `ip_udp`.
struct Sum {
  std::uint64_t count = 0;
  std::uint64_t bits = 0;
};
/// A row of the account: what was sent each way under one label.
struct Row {
  std::string label;
  Sum up;
  Sum down;
};

/// What an Account reads captures with.
struct AccountOptions {
  link::ObserverOptions observer;  ///< channels and versions are taken from the protocol
  bool fields = false;             ///< decode the fields of messages
};

/// Accounts for every bit of the datagrams that it is shown, in order.
class Account {
 public:
  /// `protocol` must outlive the account.
  Account(const schema::Protocol& protocol, AccountOptions options);
  ~Account();

  /// Takes the next packet of the capture, in order.
  Line add(const Packet& packet);

  /// Messages by kind (first sending, then again by cause), then parts of the link, then IP and
  /// UDP headers: together all bits of all packets taken.
  [[nodiscard]] std::vector<Row> rows() const;
  /// Bits of all packets, IP and UDP headers included.
  [[nodiscard]] std::uint64_t total_bits(bool up) const;
  /// Data datagrams that no key opened.
  [[nodiscard]] std::uint64_t unopened() const;
  /// Data datagrams that opened and do not fit the description.
  [[nodiscard]] std::uint64_t unread() const;
  /// Packets of no connection that is known here; not in the rows.
  [[nodiscard]] std::uint64_t foreign() const;
  [[nodiscard]] std::size_t connections() const;

 private:
  struct State;
  std::unique_ptr<State> state_;
};

/// Channels, as the link's options have them.
std::vector<link::ChannelSpec> channel_specs(const schema::Protocol& protocol);

}  // namespace kwind::capture
