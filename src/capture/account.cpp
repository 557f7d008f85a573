// Accounts for every bit of a capture. Each datagram is opened by the link's observer; its parts
// are named by the description; and a message that passed before is marked with the reason why it
// goes again, from the acks that passed in between and the round trip measured at the place of
// capture.
#include "kwind/capture/account.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <deque>
#include <unordered_map>

#include "kwind/bits/reader.h"
#include "kwind/schema/message_type_codes.h"

namespace kwind::capture {
namespace {

using link::ObservedPart;

// Acks look no farther back, and messages are not repeated later than that many others.
constexpr std::size_t kRemembered = 4096;
constexpr std::uint64_t kPacketThreshold = 3;  // RFC 9002, 6.1.1
constexpr std::int64_t kSomeRoundTrip = 200000000;
constexpr std::int64_t kMargin = 5000000;
constexpr std::int64_t kProbeSlack = 25000000;  // an ack may wait that long, at least

// What is known of the packets of one direction of a connection. The capture stands somewhere on
// the path: an ack that passes here reaches the sender later, and what the sender does about it
// passes here later still.
struct Packets {
  std::map<std::uint64_t, std::int64_t> sent;                 // packet number to time
  std::map<std::uint64_t, std::int64_t> acked;                // ... to the time of the first ack
  std::deque<std::pair<std::int64_t, std::uint64_t>> newest;  // when which was the newest acked
  std::int64_t min_trip = kSomeRoundTrip;  // from a packet to its ack, as seen here

  void note_sent(std::uint64_t number, std::int64_t now) {
    sent[number] = now;
    if (sent.size() > kRemembered) sent.erase(sent.begin());
  }
  // Packets that are acknowledged, and when: a later copy of their content was not needed.
  void on_acks(const ObservedPart& acks, std::int64_t now) {
    for (const auto& [first, last] : acks.acked) {
      for (std::uint64_t n = first; n <= last; ++n) acked.try_emplace(n, now);
    }
    const std::uint64_t last = acks.acked.front().second;
    if (newest.empty() || last > newest.back().second) {
      const auto found = sent.find(last);
      if (found != sent.end()) {
        const std::int64_t trip = now - found->second - acks.ack_delay.count();
        min_trip = std::clamp<std::int64_t>(trip, 0, min_trip);
      }
      newest.emplace_back(now, last);
      if (newest.size() > kRemembered) newest.pop_front();
    }
    while (acked.size() > kRemembered) acked.erase(acked.begin());
  }
  // `back` is how long it takes from here to the sender and back.
  Again why(std::uint64_t before, std::int64_t now, std::int64_t age, std::int64_t back) const {
    const auto heard = acked.find(before);
    if (heard != acked.end() && heard->second + back + kMargin < now) return Again::spurious;
    std::uint64_t known = 0;
    for (auto it = newest.rbegin(); it != newest.rend(); ++it) {
      if (it->first + back - back / 5 > now) continue;
      known = it->second;
      break;
    }
    const std::int64_t round_trip = min_trip + back;
    if (known >= before + kPacketThreshold || (known > before && age >= round_trip)) {
      return Again::lost;
    }
    return age > round_trip * 9 / 8 + kProbeSlack ? Again::probe : Again::redundant;
  }
};

struct Carried {
  std::uint64_t packet = 0;
  std::int64_t at = 0;
};

struct Connection {
  std::array<Packets, 2> ways;  // down, up
  // By way, channel, message (and place of a piece): what carried it last.
  std::map<std::tuple<bool, std::uint8_t, std::uint64_t, std::size_t>, Carried> carried;
  std::deque<std::tuple<bool, std::uint8_t, std::uint64_t, std::size_t>> order;
  // Kinds of split messages, known from their first piece.
  std::map<std::tuple<bool, std::uint8_t, std::uint64_t>, int> split_types;
};

}  // namespace

// Why a part was sent more than once, in words.
std::string_view again_text(Again again) {
  switch (again) {
    case Again::no: return "sent once";
    case Again::redundant: return "redundant copy";
    case Again::lost: return "retransmitted after a loss";
    case Again::probe: return "retransmitted as a probe";
    case Again::spurious: return "spurious retransmission";
  }
  return "";
}

// Channels of the description as the link takes them.
std::vector<link::ChannelSpec> channel_specs(const schema::Protocol& protocol) {
  std::vector<link::ChannelSpec> specs;
  specs.reserve(protocol.channels.size());
  for (const schema::Channel& channel : protocol.channels) {
    link::ChannelSpec spec{channel.delivery, channel.life.since};
    spec.split = true;  // whether a piece was permitted is not the reader's business
    if (channel.repeat > 0) spec.repeat = channel.repeat;
    specs.push_back(spec);
  }
  return specs;
}

struct Account::State {
  const schema::Protocol& protocol;
  AccountOptions options;
  link::Observer observer;
  std::unordered_map<Endpoint, Connection> connections;  // by client
  std::map<std::pair<int, std::string>, Row> rows;       // by place in the table, then label
  std::uint64_t totals[2] = {0, 0};
  std::uint64_t unopened = 0;
  std::uint64_t unread = 0;
  std::uint64_t foreign = 0;

  State(const schema::Protocol& described, AccountOptions wanted, link::Observer made)
      : protocol(described), options(std::move(wanted)), observer(std::move(made)) {}

  // Adds bits to the row of a label; rows are sorted by their place.
  void note(int place, const std::string& label, bool up, std::uint64_t bits) {
    Row& row = rows[{place, label}];
    row.label = label;
    Sum& sum = up ? row.up : row.down;
    ++sum.count;
    sum.bits += bits;
  }

  // The kind that a payload names, and where its fields start.
  int type_of(bits::Reader& in, std::size_t channel, bool up, std::uint16_t version,
              std::size_t& type_bits, std::uint64_t& request_id) const {
    std::vector<int> kinds;
    for (std::size_t i = 0; i < protocol.messages.size(); ++i) {
      const schema::MessageType& message = protocol.messages[i];
      const auto way = up ? schema::Direction::from_client : schema::Direction::from_server;
      if (message.channel != channel || !message.life.alive(version)) continue;
      if (message.direction != schema::Direction::both && message.direction != way) continue;
      kinds.push_back(static_cast<int>(i));
    }
    type_bits = bits::bits_for(kinds.size());
    const std::uint64_t code = in.get(static_cast<unsigned>(type_bits));
    if (!in.ok() || code >= kinds.size()) return -1;
    if (protocol.messages[static_cast<std::size_t>(kinds[code])].role !=
        schema::MessageRole::message) {
      request_id = in.get(schema::kRequestIdBits);
      type_bits += schema::kRequestIdBits;
    }
    return kinds[code];
  }

  // Type and request number of a message, from its first bits.
  void name_message(Entry& entry, bool up, std::uint16_t version) const {
    const ObservedPart& part = entry.part;
    bits::Reader in(part.payload, part.payload_bits);
    std::uint64_t request_id = 1;
    entry.kind = type_of(in, part.channel, up, version, entry.type_bits, request_id);
    if (entry.kind < 0) {
      entry.label = "a message of no kind on " + entry.channel;
      return;
    }
    const schema::MessageType& type = protocol.messages[static_cast<std::size_t>(entry.kind)];
    entry.label = type.name;
    if (request_id == 0) {
      entry.label +=
          fmt::format(" that never comes, to request {}", in.get(schema::kRequestIdBits));
      return;
    }
    if (!options.fields || part.kind != ObservedPart::Kind::message) return;
    std::vector<std::byte> fields(part.payload.size());
    const std::size_t bits = part.payload_bits - entry.type_bits;
    in.get_bits(fields, bits);
    entry.fields = schema::explain(protocol, type.fields, fields, bits, {version, 0});
  }

  // Whether the peer was sent this before, in which packet, and why it goes again.
  void note_again(Entry& entry, Connection& connection, const link::ObservedDatagram& datagram,
                  std::int64_t now) const {
    const ObservedPart& part = entry.part;
    const Delivery delivery = protocol.channels[part.channel].delivery;
    Packets& packets = connection.ways[datagram.up ? 1 : 0];
    if (!is_reliable(delivery)) {
      if (!part.copy) return;
      entry.again = Again::redundant;
      entry.before = datagram.number - part.number;
      const auto sent = packets.sent.find(entry.before);
      if (sent != packets.sent.end()) entry.after_ns = now - sent->second;
      return;
    }
    const auto key = std::tuple(datagram.up, part.channel, part.number, part.first_byte);
    const auto [found, fresh] = connection.carried.try_emplace(key);
    if (!fresh) {
      entry.before = found->second.packet;
      entry.after_ns = now - found->second.at;
      const std::int64_t back = connection.ways[datagram.up ? 0 : 1].min_trip;
      entry.again = packets.why(entry.before, now, entry.after_ns, back);
    } else {
      connection.order.push_back(key);
      if (connection.order.size() > kRemembered) {
        connection.carried.erase(connection.order.front());
        connection.order.pop_front();
      }
    }
    found->second = {datagram.number, now};
  }

  void take_part(Entry& entry, Connection& connection, const link::ObservedDatagram& datagram,
                 std::int64_t now);
};

// Finds the row of a part: messages by type, then replication, then the link's own parts.
void Account::State::take_part(Entry& entry, Connection& connection,
                               const link::ObservedDatagram& datagram, std::int64_t now) {
  const ObservedPart& part = entry.part;
  const bool up = datagram.up;
  const auto messages = static_cast<int>(protocol.messages.size());
  const auto type_index = [&](int kind) { return kind < 0 ? messages : kind; };
  switch (part.kind) {
    case ObservedPart::Kind::message:
    case ObservedPart::Kind::piece: {
      entry.channel = protocol.channels[part.channel].name;
      const auto split = std::tuple(up, part.channel, part.number);
      if (part.kind == ObservedPart::Kind::message || part.first_byte == 0) {
        name_message(entry, up, datagram.version);
        if (part.kind == ObservedPart::Kind::piece) connection.split_types[split] = entry.kind;
      } else {
        const auto known = connection.split_types.find(split);
        entry.kind = known == connection.split_types.end() ? -1 : known->second;
        entry.label = entry.kind < 0 ? "pieces of no known kind on " + entry.channel
                                     : protocol.messages[static_cast<std::size_t>(entry.kind)].name;
      }
      note_again(entry, connection, datagram, now);
      std::string label = entry.label;
      if (entry.again != Again::no) {
        label += fmt::format(", {}", again_text(entry.again));
      }
      note(type_index(entry.kind), label, up, part.bits);
      return;
    }
    case ObservedPart::Kind::parity:
      entry.channel = protocol.channels[part.channel].name;
      entry.label = "parity of " + entry.channel;
      entry.again = Again::redundant;
      note(messages + 1, entry.label, up, part.bits);
      return;
    case ObservedPart::Kind::payload: entry.label = "state"; break;
    case ObservedPart::Kind::acks:
      entry.label = "acks";
      connection.ways[up ? 0 : 1].on_acks(part, now);
      break;
    case ObservedPart::Kind::header: entry.label = "headers"; break;
    case ObservedPart::Kind::control: entry.label = part.control; break;
    case ObservedPart::Kind::padding: entry.label = "padding"; break;
    case ObservedPart::Kind::encrypted: entry.label = "encrypted, not opened"; break;
    case ObservedPart::Kind::tag:
      entry.label = datagram.encrypted ? "AEAD tags" : "check values";
      break;
    case ObservedPart::Kind::handshake: entry.label = "handshake"; break;
  }
  note(messages + 2 + static_cast<int>(part.kind), entry.label, up, part.bits);
}

// The observer follows connections; the description gives names to what they carry.
Account::Account(const schema::Protocol& protocol, AccountOptions options) {
  options.observer.channels = channel_specs(protocol);
  options.observer.versions.clear();
  for (std::uint32_t v = protocol.version; v >= schema::oldest_version(protocol); --v) {
    options.observer.versions.push_back(static_cast<std::uint16_t>(v));
  }
  link::Observer observer(options.observer);
  state_ = std::make_unique<State>(protocol, std::move(options), std::move(observer));
}
Account::~Account() = default;

// One packet of the capture: what is in it, and which of its parts travel again.
Line Account::add(const Packet& packet) {
  State& state = *state_;
  Line line;
  line.unix_ns = packet.unix_ns;
  line.from = packet.from;
  line.to = packet.to;
  line.datagram = state.observer.observe(packet.from, packet.to, packet.payload);
  const link::ObservedDatagram& datagram = line.datagram;
  if (datagram.form == "foreign") {
    ++state.foreign;
    return line;
  }
  Connection& connection = state.connections[datagram.client];
  if (datagram.form == "connect") connection = Connection{};  // numbers start anew
  const bool up = datagram.up;
  const std::size_t headers = packet.header_bytes() * 8;
  state.totals[up ? 1 : 0] += packet.payload.size() * 8 + headers;
  for (const ObservedPart& part : datagram.parts) {
    Entry entry;
    entry.part = part;
    state.take_part(entry, connection, datagram, packet.unix_ns);
    line.entries.push_back(std::move(entry));
  }
  state.note(1 << 20, "IP and UDP headers", up, headers);
  if (datagram.opened && datagram.form == "data") {
    connection.ways[up ? 1 : 0].note_sent(datagram.number, packet.unix_ns);
  } else if (datagram.form == "data") {
    const bool is_open = datagram.problem != Errc::none && datagram.problem != Errc::bad_check &&
                         datagram.problem != Errc::bad_key;
    ++(is_open ? state.unread : state.unopened);
  }
  return line;
}

// Rows in the order of the table.
std::vector<Row> Account::rows() const {
  std::vector<Row> rows;
  rows.reserve(state_->rows.size());
  for (const auto& [place, row] : state_->rows) rows.push_back(row);
  return rows;
}
std::uint64_t Account::total_bits(bool up) const {
  return state_->totals[up ? 1 : 0];
}
std::uint64_t Account::unopened() const {
  return state_->unopened;
}
std::uint64_t Account::unread() const {
  return state_->unread;
}
std::uint64_t Account::foreign() const {
  return state_->foreign;
}
std::size_t Account::connections() const {
  return state_->connections.size();
}

}  // namespace kwind::capture
