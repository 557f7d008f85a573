// Decodes captured datagrams of both directions: follows handshakes, key phases and packet numbers
// without taking part.
//
// A passive observer has neither key nor secret of its own. It needs a key log (written by an end)
// for encrypted connections; plaintext ones it follows by the handshake alone. Packet numbers are
// truncated on the wire (RFC 9000, A.3): the observer widens them by the newest number of the same
// direction.
#include "kwind/link/observer.h"

#include <algorithm>
#include <array>
#include <map>
#include <unordered_map>
#include <unordered_set>

#include "link/datagram/ack_block.h"
#include "link/datagram/data_header.h"
#include "link/datagram/envelope.h"
#include "link/datagram/frames.h"
#include "link/handshake/handshake.h"

namespace kwind::link {
namespace {

// A window for the search: 2^22 datagrams are 19 hours at 60 a second.
// A connection whose beginning is missing may have sent this many datagrams before.
constexpr std::uint64_t kMaxBefore = std::uint64_t{1} << 22;
// Acks of datagrams that were not captured.
constexpr std::uint64_t kUnseen = 1024;

// Names of forms as documents and the tool's output spell them.
std::string_view name_of(Form form) {
  switch (form) {
    case Form::hello: return "hello";
    case Form::cookie: return "cookie";
    case Form::connect: return "connect";
    case Form::accept: return "accept";
    case Form::handshake_error: return "handshake error";
    case Form::versions: return "versions";
    case Form::reset: return "stateless reset";
    case Form::lost: return "reset query";
  }
  return "foreign";
}

// Hello, connect and reset query come from clients; all other forms from servers.
bool from_client(Form form) {
  return form == Form::hello || form == Form::connect || form == Form::lost;
}

// One direction of one connection.
// Index 0 is to the client, index 1 to the server.
struct Way {
  std::uint64_t expected = 0;  // packet number after the newest seen
  bool any = false;
  std::uint64_t newest_narrow = 0;                        // with a short number, see ack_block.h
  std::vector<std::pair<const DatagramKey*, Aead>> keys;  // those that have opened something last
  std::map<std::uint8_t, std::uint64_t> messages;         // by channel: number after the newest
};

// A connection as seen from outside, by the client's address.
struct Flow {
  bool encrypted = true;
  std::uint16_t version = 0;
  std::optional<ConnectionId> id;
  std::array<Way, 2> ways;  // down, up
  std::vector<ChannelSpec> channels;
  // Plaintext mode: the keys of its checks, once the handshake was seen.
  std::vector<std::byte> connect;
  std::vector<std::uint16_t> offered;  // versions
  std::optional<CheckKeys> checks;
};

}  // namespace

struct Observer::State {
  ObserverOptions options;
  std::unordered_set<Endpoint> servers;
  std::unordered_map<Endpoint, Flow> flows;  // by client

  // Channels younger than the agreed version do not exist on this connection.
  // Also when the version changes: a key of another version names its channels.
  void agree(Flow& flow, std::uint16_t version) const {
    flow.version = version;
    flow.channels = options.channels;
    std::erase_if(flow.channels, [&](const ChannelSpec& spec) { return spec.since > version; });
  }

  // A connection whose handshake was not captured is taken to speak the newest version.
  Flow& flow_of(const Endpoint& client) {
    const auto [found, fresh] = flows.try_emplace(client);
    // The newest version is a guess; the first key that opens something corrects it.
    if (fresh && !options.versions.empty()) agree(found->second, options.versions.front());
    return found->second;
  }

  void on_handshake(Form form, std::span<const std::byte> datagram, Flow& flow,
                    ObservedDatagram& out);
  static void on_hello(std::span<const std::byte> datagram, Flow& flow, ObservedDatagram& out);
  void on_connect(std::span<const std::byte> datagram, Flow& flow, ObservedDatagram& out);
  void on_accept(std::span<const std::byte> datagram, Flow& flow, ObservedDatagram& out);
  void on_data(std::span<const std::byte> datagram, Flow& flow, ObservedDatagram& out);
  bool open(std::span<const std::byte> datagram, const DataHeader& header, Flow& flow,
            ObservedDatagram& out);
  bool try_key(const Aead& aead, std::uint64_t number, std::span<const std::byte> datagram,
               std::size_t head_bytes, ObservedDatagram& out) const;
  Errc read_body(std::span<const std::byte> body, bool has_acks, Flow& flow,
                 ObservedDatagram& out) const;
};

namespace {

ObservedPart part(ObservedPart::Kind kind, std::size_t bits) {
  ObservedPart made;
  made.kind = kind;
  made.bits = bits;
  // A part of a datagram that is described by its kind and size alone.
  return made;
}

// The names that `kwind explain` prints.
std::string_view control_name(FrameKind kind) {
  switch (kind) {
    case FrameKind::ping: return "ping";
    case FrameKind::close: return "close";
    case FrameKind::window: return "window";
    case FrameKind::challenge: return "challenge";
    case FrameKind::response: return "response";
    case FrameKind::padding: return "padding";
    case FrameKind::message:
    case FrameKind::piece:
    case FrameKind::parity:
    case FrameKind::payload: break;
  }
  return {};
}

// The bits of a frame's payload as bytes of their own: the datagram may be gone when they are read.
std::vector<std::byte> payload_of(const Frame& frame) {
  std::vector<std::byte> bytes(bits::bytes_for(frame.bits));
  bits::Reader in = frame.payload;
  in.get_bits(bytes, frame.bits);
  return bytes;
}

// Describes one frame. Numbers of reliable messages are widened to 64 bits by the newest one seen.
ObservedPart part_of(const Frame& frame, Delivery delivery, std::uint64_t packet, Way& way) {
  ObservedPart made = part(ObservedPart::Kind::control, frame.head_bits + frame.bits);
  made.channel = frame.channel;
  // Reliable messages are numbered in 16 bits.
  const auto unwrap = [&] {
    std::uint64_t& next = way.messages[frame.channel];
    made.number = expand(next, frame.index, 16);
    next = std::max(next, made.number + 1);
  };
  switch (frame.kind) {
    case FrameKind::message:
      made.kind = ObservedPart::Kind::message;
      made.payload_bits = frame.bits;
      made.payload = payload_of(frame);
      if (is_reliable(delivery)) {
        unwrap();
      } else if (delivery == Delivery::sequenced) {
        // Sequenced messages name the datagram that first carried them: later ones are copies.
        made.number = packet - frame.origin.packet();
        made.copy = made.number > 0;
      }
      break;
    case FrameKind::piece:
      made.kind = ObservedPart::Kind::piece;
      made.payload_bits = frame.bits;
      made.total_bits = frame.total_bits;
      made.first_byte = frame.first_chunk * kFragmentBytes;
      made.payload = payload_of(frame);
      if (is_reliable(delivery)) {
        unwrap();
      } else {
        made.number = frame.origin.key();
      }
      break;
    case FrameKind::parity:
      made.kind = ObservedPart::Kind::parity;
      made.payload_bits = frame.bits;
      unwrap();
      break;
    case FrameKind::payload:
      made.kind = ObservedPart::Kind::payload;
      made.payload_bits = frame.bits;
      made.payload = payload_of(frame);
      break;
    case FrameKind::padding:
      made.kind = ObservedPart::Kind::padding;
      made.control = control_name(frame.kind);
      break;
    case FrameKind::ping:
    case FrameKind::close:
    case FrameKind::window:
    case FrameKind::challenge:
    case FrameKind::response: made.control = control_name(frame.kind); break;
  }
  return made;
}

}  // namespace

// Follows an attempt. In plaintext mode connect and accept say everything: versions, id and the
// keys of the checks. Encrypted ones say only that there is an attempt.
void Observer::State::on_handshake(Form form, std::span<const std::byte> datagram, Flow& flow,
                                   ObservedDatagram& out) {
  out.form = name_of(form);
  out.parts.push_back(part(ObservedPart::Kind::handshake, datagram.size() * 8));
  switch (form) {
    case Form::hello: on_hello(datagram, flow, out); break;
    case Form::connect: on_connect(datagram, flow, out); break;
    case Form::accept: on_accept(datagram, flow, out); break;
    default: break;
  }
  out.encrypted = flow.encrypted;
  // Encrypted handshakes show their form and their size.
  out.version = flow.version;
  out.opened = !flow.encrypted && out.problem == Errc::none;
}

// The first datagram of an attempt says whether the connection will be encrypted.
void Observer::State::on_hello(std::span<const std::byte> datagram, Flow& flow,
                               ObservedDatagram& out) {
  const auto hello = read_hello(datagram);
  if (hello) {
    flow.encrypted = hello->mode == Mode::encrypted;
  } else {
    out.problem = hello.error();
  }
}

// A connect begins the flow anew. In plaintext it lists the versions that the client offers.
void Observer::State::on_connect(std::span<const std::byte> datagram, Flow& flow,
                                 ObservedDatagram& out) {
  const auto head = read_connect_head(datagram);
  if (!head) {
    out.problem = head.error();
    return;
  }
  // Retransmissions of a connect are equal byte for byte.
  if (!std::equal(flow.connect.begin(), flow.connect.end(), datagram.begin(), datagram.end())) {
    // A new attempt: what was known of the one before ends with it.
    const std::uint16_t version = flow.version;
    flow = Flow{};
    agree(flow, version);
    flow.connect.assign(datagram.begin(), datagram.end());
  } else {
    // The same attempt again: a copy, or a capture in which the connection appears twice. Packet
    // numbers are searched for as on a connection whose beginning was not captured.
    for (Way& way : flow.ways) {
      way.expected = way.newest_narrow = 0;
      way.any = false;
    }
  }
  flow.encrypted = head->opening.mode == Mode::encrypted;
  if (flow.encrypted) return;
  const auto payload = read_plaintext(datagram.subspan(kConnectHeadBytes));
  auto connect = payload ? read_connect(*payload) : tl::unexpected<Errc>(payload.error());
  if (!connect) {
    out.problem = connect.error();
    return;
  }
  flow.offered.clear();
  flow.offered.reserve(connect->identity.versions.size());
  for (const VersionDigest& entry : connect->identity.versions) {
    flow.offered.push_back(entry.version);
  }
}

// An accept in plaintext names the version that was agreed and the id of the connection. The keys
// of the checks follow from connect and accept.
void Observer::State::on_accept(std::span<const std::byte> datagram, Flow& flow,
                                ObservedDatagram& out) {
  if (flow.encrypted || flow.connect.empty()) return;
  const auto nonce = read_accept_head(datagram);
  const auto message = nonce ? datagram.subspan(kAcceptHeadBytes) : datagram.first(0);
  const auto payload = nonce ? read_plaintext(message) : tl::unexpected<Errc>(nonce.error());
  const auto accept = payload ? read_accept(*payload) : tl::unexpected<Errc>(payload.error());
  if (!accept) {
    out.problem = accept.error();
    return;
  }
  if (!accept->welcome || accept->welcome->version_index >= flow.offered.size()) return;
  agree(flow, flow.offered[accept->welcome->version_index]);
  flow.id = accept->welcome->id;
  const auto theirs = std::span(flow.connect).subspan(kConnectHeadBytes, 32);
  // Keys of the checks are derived from the public parts of the handshake (docs/wire-format.md),
  // so anybody can compute them: the check finds damage, not forgery.
  flow.checks = CheckKeys{plaintext_key("clear up", theirs, message.first(32), *flow.id),
                          plaintext_key("clear down", theirs, message.first(32), *flow.id)};
}

// On success `out.plain` is the whole datagram with its body decrypted.
bool Observer::State::try_key(const Aead& aead, std::uint64_t number,
                              std::span<const std::byte> datagram, std::size_t head_bytes,
                              ObservedDatagram& out) const {
  // The header is authenticated, not encrypted: associated data.
  const auto body = datagram.subspan(head_bytes);
  out.plain.resize(datagram.size() - Aead::kTagBytes);
  if (!aead.open(number, datagram.first(head_bytes), body,
                 std::span(out.plain).subspan(head_bytes))) {
    out.plain.clear();
    return false;
  }
  std::copy_n(datagram.begin(), head_bytes, out.plain.begin());
  out.number = number;
  return true;
}

// First the keys that opened something lately, then all of the key log.
bool Observer::State::open(std::span<const std::byte> datagram, const DataHeader& header,
                           Flow& flow, ObservedDatagram& out) {
  Way& way = flow.ways[out.up ? 1 : 0];
  const unsigned low_bits = header.wide ? 16 : 8;
  const std::uint64_t likely = expand(way.expected, header.number_low, low_bits);
  // At most two keys, the newest and the one before.
  for (const auto& [key, aead] : way.keys) {
    if ((key->phase % 2 == 1) == header.phase &&
        try_key(aead, likely, datagram, header.bytes, out)) {
      return true;
    }
  }
  // Another key of the connection's; or, on its first datagram, whose it is.
  // All keys of the log with the right direction and phase; seldom more than a few.
  for (const DatagramKey& key : options.keys) {
    if (key.up != out.up || (key.phase % 2 == 1) != header.phase) continue;
    if (out.up ? key.id != header.id : flow.id.has_value() && key.id != *flow.id) continue;
    const auto cipher = static_cast<Cipher>(key.cipher);
    if (cipher == Cipher::aes256_gcm && !has_aes_hardware()) {
      out.problem = Errc::bad_key;
      continue;
    }
    Aead aead(cipher, key.key);
    bool opened = try_key(aead, likely, datagram, header.bytes, out);
    // The beginning was not captured: any number with these low bits will do.
    const std::uint64_t step = std::uint64_t{1} << low_bits;
    // Numbers with these low bits, from the lowest up, until one opens.
    for (std::uint64_t n = header.number_low; !opened && !way.any && n < kMaxBefore; n += step) {
      opened = try_key(aead, n, datagram, header.bytes, out);
    }
    if (!opened) continue;
    if (!flow.id || key.version != flow.version) agree(flow, key.version);
    flow.id = key.id;
    // The newest key is first.
    way.keys.insert(way.keys.begin(), {&key, std::move(aead)});
    if (way.keys.size() > 2) way.keys.pop_back();
    out.problem = Errc::none;
    return true;
  }
  return false;
}

// Parts are added only when the whole body could be read, as the link does.
Errc Observer::State::read_body(std::span<const std::byte> body, bool has_acks, Flow& flow,
                                ObservedDatagram& out) const {
  bits::Reader in(body);
  std::vector<ObservedPart> parts;
  if (has_acks) {
    AckBlock block;
    const std::size_t before = in.left_bits();
    const Way& other = flow.ways[out.up ? 0 : 1];
    if (const Errc error = read(in, other.expected + kUnseen, other.newest_narrow, block);
        error != Errc::none) {
      return error;
    }
    ObservedPart acks = part(ObservedPart::Kind::acks, before - in.left_bits());
    acks.ack_delay = block.delay;
    acks.acked.reserve(block.ranges.size());
    for (const AckRange& range : block.ranges) acks.acked.emplace_back(range.first, range.last);
    parts.push_back(std::move(acks));
  }
  std::size_t left = in.left_bits();
  std::vector<Frame> frames;
  if (const Errc error = read_frames(in, flow.channels, out.number, frames); error != Errc::none) {
    return error;
  }
  for (const Frame& frame : frames) {
    // Control frames have no channel; read_frames has refused a channel that is not agreed.
    const Delivery delivery = frame.channel < flow.channels.size()
                                  ? flow.channels[frame.channel].delivery
                                  : Delivery::unreliable;
    parts.push_back(part_of(frame, delivery, out.number, flow.ways[out.up ? 1 : 0]));
    left -= parts.back().bits;
  }
  if (left > 0) parts.push_back(part(ObservedPart::Kind::padding, left));
  out.parts.insert(out.parts.end(), parts.begin(), parts.end());
  return Errc::none;
}

// A datagram that no key opens still has a header, a body of known size and a tag.
void Observer::State::on_data(std::span<const std::byte> datagram, Flow& flow,
                              ObservedDatagram& out) {
  out.form = "data";
  const auto header = read_data_header(datagram, out.up);
  const std::size_t tag = flow.encrypted ? Aead::kTagBytes : Envelope::kCheckBytes;
  if (!header || datagram.size() < header->bytes + tag) {
    out.problem = Errc::truncated;
    out.parts.push_back(part(ObservedPart::Kind::encrypted, datagram.size() * 8));
    return;
  }
  Way& way = flow.ways[out.up ? 1 : 0];
  out.encrypted = flow.encrypted;
  if (out.up) out.id = header->id;
  out.number = header->number_low;
  out.parts.push_back(part(ObservedPart::Kind::header, header->bytes * 8));
  const std::size_t body_bytes = datagram.size() - header->bytes - tag;
  std::span<const std::byte> body = datagram.subspan(header->bytes, body_bytes);
  bool open_now = true;
  if (flow.encrypted) {
    open_now = open(datagram, *header, flow, out);
    if (open_now) body = std::span(out.plain).subspan(header->bytes);
  } else {
    out.number = expand(way.expected, header->number_low, header->wide ? 16 : 8);
    if (flow.checks) {
      bits::Reader check(datagram.last(Envelope::kCheckBytes));
      const Key128& key = out.up ? flow.checks->up : flow.checks->down;
      const auto checked = datagram.first(datagram.size() - Envelope::kCheckBytes);
      open_now = check.get(32) == keyed_check(key, checked, out.number);
      if (!open_now) out.problem = Errc::bad_check;
    }
  }
  if (!out.id) out.id = flow.id;
  if (open_now) {
    out.problem = read_body(body, header->has_acks, flow, out);
    out.opened = out.problem == Errc::none;
    way.expected = std::max(way.expected, out.number + 1);
    if (!header->wide) way.newest_narrow = std::max(way.newest_narrow, out.number);
    way.any = true;
  }
  if (!out.opened) out.parts.push_back(part(ObservedPart::Kind::encrypted, body_bytes * 8));
  out.parts.push_back(part(ObservedPart::Kind::tag, tag * 8));
  out.version = flow.version;
}

// Without keys an observer describes headers; with a key log it decrypts what the log covers.
Observer::Observer(ObserverOptions options) : state_(std::make_unique<State>()) {
  state_->options = std::move(options);
  if (state_->options.server) state_->servers.insert(*state_->options.server);
}
Observer::Observer(Observer&&) noexcept = default;
Observer::~Observer() = default;

// The direction follows from the form of handshake datagrams; servers that were met once are
// remembered.
ObservedDatagram Observer::observe(const Endpoint& from, const Endpoint& to,
                                   std::span<const std::byte> datagram) {
  State& state = *state_;
  ObservedDatagram out;
  out.bytes = datagram.size();
  const auto foreign = [&] {
    out.parts.push_back(part(ObservedPart::Kind::encrypted, datagram.size() * 8));
    return out;
  };
  if (datagram.empty()) return foreign();
  if (!is_data(datagram)) {
    const auto form = form_of(datagram);
    const bool ours = form && (from_client(*form) ? datagram.size() == kBaseDatagramBytes
                                                  : state.servers.contains(from));
    if (!ours) return foreign();
    out.up = from_client(*form);
    out.client = out.up ? from : to;
    if (out.up) state.servers.insert(to);
    state.on_handshake(*form, datagram, state.flow_of(out.client), out);
    return out;
  }
  const bool up = state.servers.contains(to);
  if (!up && !state.servers.contains(from)) return foreign();
  out.up = up;
  out.client = up ? from : to;
  Flow* flow = &state.flow_of(out.client);
  if (up && datagram.size() >= 4 && (!flow->id || *flow->id != connection_id_of(datagram))) {
    // A client that moved brings its connection along.
    const ConnectionId id = connection_id_of(datagram);
    for (auto& [client, other] : state.flows) {
      if (&other == flow || other.id != id || flow->ways[1].any) continue;
      *flow = std::move(other);
      // Its old address starts anew, should anybody else speak from there.
      other = Flow{};
      state.agree(other, flow->version);
      break;
    }
  }
  state.on_data(datagram, *flow, out);
  return out;
}

}  // namespace kwind::link
