// Reading and writing of handshake datagrams, cookies and stateless resets.
//
// A datagram of the handshake begins with its form (8 bits), the link version (16) and a nonce that
// the client chose for this attempt (64). The forms are the messages hello, cookie, connect and
// accept, two answers for an attempt that failed (versions, handshake_error), and two for a
// connection that the server does not know (lost, reset).
//
// The server keeps no state before a connect with a cookie arrives. A cookie is a keyed hash over
// the address, the nonce and the time, which the server computes again (as SYN cookies are).
//
// Invariant 1: no answer to an address that is not proved is larger than the datagram that it
//   answers.
// Invariant 2: a value has one byte string. Padding is zeros, and the readers refuse everything
//   else.
#include "link/handshake/handshake.h"

#include <algorithm>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "kwind/core/printable.h"

namespace kwind::link {
namespace {

using bits::Reader;
using bits::Writer;

constexpr std::size_t kMaxNameBytes = 64;
constexpr std::size_t kMaxRefusalBytes = 160;
constexpr std::size_t kCheckBytes = 4;

enum class Credential : std::uint8_t { none = 0, ticket = 1, resume = 2 };

// Clear handshake datagrams are checked against accident under a key that everybody knows.
const Key128& known_key() {
  static const Key128 key = blake2b_128("kestrel wind handshake 3");
  return key;
}

// Whole bytes, wherever the bit position is.
void put_bytes(Writer& writer, std::span<const std::byte> bytes) {
  writer.put_bits(bytes, bytes.size() * 8);
}
// A length in bytes of `length_bits` bits, then the text.
void put_text(Writer& writer, std::string_view text, unsigned length_bits) {
  writer.put(text.size(), length_bits);
  put_bytes(writer, std::as_bytes(std::span(text.data(), text.size())));
}
// The length is checked against its maximum and against what is left before memory is taken.
Errc get_text(Reader& reader, std::string& text, unsigned length_bits, std::size_t max) {
  const std::uint64_t size = reader.get(length_bits);
  if (size > max) return Errc::too_long;
  if (size * 8 > reader.left_bits()) return Errc::truncated;
  text.resize(size);
  reader.get_bits(std::as_writable_bytes(std::span(text.data(), size)), size * 8);
  return Errc::none;
}

// Every handshake datagram begins with form, link version and the client's nonce.
Writer begin(std::span<std::byte> out, Form form, std::uint64_t client_nonce,
             std::uint16_t link_version = kLinkVersion) {
  KWIND_ASSERT(out.size() >= kBaseDatagramBytes);
  Writer writer(out.first(kBaseDatagramBytes));
  writer.put(static_cast<std::uint64_t>(form), 8);
  writer.put(link_version, 16);
  writer.put(client_nonce, 64);
  return writer;
}

// Hello and connect say whether encryption is wanted and what carries the datagrams.
void put_opening(Writer& writer, const Opening& opening) {
  writer.put(static_cast<std::uint64_t>(opening.mode), 8);
  writer.put(static_cast<std::uint64_t>(opening.transport_kind), 8);
}

// Fills up with zeros to `size` bytes.
void pad(Writer& writer, std::span<std::byte> out, std::size_t size) {
  KWIND_ASSERT(writer.ok());
  const std::size_t used = writer.finish();
  KWIND_ASSERT(used <= size);
  std::fill(out.begin() + static_cast<std::ptrdiff_t>(used),
            out.begin() + static_cast<std::ptrdiff_t>(size), std::byte{0});
}

// One value has one byte string: what follows the last field is zeros, less than a byte of them
// unless the datagram is padded.
Errc rest_is_padding(Reader& reader, bool padded) {
  if (!reader.ok()) return Errc::truncated;
  if (!padded && reader.left_bits() >= 8) return Errc::trailing_bits;
  while (reader.left_bits() > 0) {
    const auto bits = static_cast<unsigned>(std::min<std::size_t>(64, reader.left_bits()));
    if (reader.get(bits) != 0) return Errc::trailing_bits;
  }
  return Errc::none;
}

// A reader that stands after the common beginning.
struct Opened {
  Reader reader;
  std::uint64_t client_nonce;
};
// Reads that beginning. A datagram of another link version is refused before anything else is read.
Result<Opened> open(std::span<const std::byte> datagram, Form form) {
  if (datagram.size() < 11) return fail(Errc::truncated);
  Reader reader(datagram);
  if (reader.get(8) != static_cast<std::uint64_t>(form)) return fail(Errc::unknown_form);
  if (reader.get(16) != kLinkVersion) return fail(Errc::link_version);
  const std::uint64_t nonce = reader.get(64);
  return Opened{reader, nonce};
}

// Values that the protocol does not have are refused: a field of eight bits has two meanings here.
Result<Opening> get_opening(Opened& opened) {
  Opening opening{kLinkVersion, opened.client_nonce, Mode::encrypted, TransportKind::datagrams};
  const std::uint64_t mode = opened.reader.get(8);
  const std::uint64_t transport_kind = opened.reader.get(8);
  if (!opened.reader.ok()) return fail(Errc::truncated);
  if (mode < 1 || mode > 2 || transport_kind > 1) return fail(Errc::value_range);
  opening.mode = static_cast<Mode>(mode);
  opening.transport_kind = static_cast<TransportKind>(transport_kind);
  return opening;
}

// A cookie is a keyed hash over everything that it must be bound to. The server stores nothing.
Cookie cookie_at(const Secret32& secret, const Endpoint& from, std::uint64_t client_nonce,
                 std::int64_t epoch) {
  std::array<std::byte, 34> data{};
  Writer writer(data);
  for (const std::uint8_t byte : from.ip) writer.put(byte, 8);
  writer.put(from.port, 16);
  writer.put(client_nonce, 64);
  writer.put(static_cast<std::uint64_t>(epoch), 64);
  writer.finish();
  const Secret32 whole = derive(secret, "cookie", data);
  Cookie cookie{};
  std::copy_n(whole.bytes().begin(), cookie.size(), cookie.begin());
  return cookie;
}

// Cookies are good for 10 to 20 seconds: the epoch in which they were made, and the next one.
std::int64_t cookie_epoch(Time now) {
  return std::chrono::floor<std::chrono::seconds>(now.time_since_epoch()).count() / 10;
}

}  // namespace

// The first byte of all handshake forms is even, that of data odd.
Result<Form> form_of(std::span<const std::byte> datagram) {
  if (datagram.empty()) return fail(Errc::truncated);
  const auto form = std::to_integer<unsigned>(datagram[0]);
  if (form % 2 != 0 || form < 2 || form > 16) return fail(Errc::unknown_form);
  return static_cast<Form>(form);
}

// A hello has the full base size: its answer, which is smaller, amplifies nothing.
std::size_t write_hello(const Opening& opening, std::span<std::byte> out) {
  Writer writer = begin(out, Form::hello, opening.client_nonce, opening.link_version);
  put_opening(writer, opening);
  pad(writer, out, kBaseDatagramBytes);
  return kBaseDatagramBytes;
}

// A cookie reply is 27 bytes: smaller than any hello.
std::size_t write(const CookieReply& reply, std::span<std::byte> out) {
  Writer writer = begin(out, Form::cookie, reply.client_nonce);
  put_bytes(writer, reply.cookie);
  return writer.finish();
}

// For clients that have no keys yet. Nothing protects this datagram: it ends attempts, never
// connections.
std::size_t write(const HandshakeError& handshake_error, std::span<std::byte> out) {
  Writer writer = begin(out, Form::handshake_error, handshake_error.client_nonce);
  writer.put(static_cast<std::uint64_t>(handshake_error.code), 8);
  return writer.finish();
}

// The answer to a hello of an unknown link version: all versions that this end speaks.
std::size_t write(const Versions& versions, std::span<std::byte> out) {
  KWIND_ASSERT(versions.known.size() <= 15);
  Writer writer = begin(out, Form::versions, versions.client_nonce);
  writer.put(versions.known.size(), 4);
  for (const std::uint16_t version : versions.known) writer.put(version, 16);
  return writer.finish();
}

// 17 bytes in all: form and token.
std::size_t write_reset(const ResetToken& token, std::span<std::byte> out) {
  Writer writer(out);
  writer.put(static_cast<std::uint64_t>(Form::reset), 8);
  put_bytes(writer, token);
  return writer.finish();
}

// A query of 32 bytes, so that its answer of 17 bytes amplifies nothing.
std::size_t write(const Lost& lost, std::span<std::byte> out) {
  Writer writer(out);
  writer.put(static_cast<std::uint64_t>(Form::lost), 8);
  writer.put(static_cast<std::uint32_t>(lost.id), 32);
  writer.put(lost.reset_nonce, 64);
  const std::size_t size = writer.finish();
  std::fill(out.begin() + static_cast<std::ptrdiff_t>(size),
            out.begin() + static_cast<std::ptrdiff_t>(kLostBytes), std::byte{0});
  return kLostBytes;
}

// The bytes before the ephemeral key. They are part of the Noise prologue: whoever changes them on
// the path breaks the handshake.
void write_connect_head(const Opening& opening, const Cookie& cookie, std::span<std::byte> out) {
  Writer writer = begin(out, Form::connect, opening.client_nonce, opening.link_version);
  put_opening(writer, opening);
  put_bytes(writer, cookie);
  KWIND_ASSERT(writer.finish() == kConnectHeadBytes);
}

// 11 bytes: form, link version, nonce of the attempt.
void write_accept_head(std::uint64_t client_nonce, std::span<std::byte> out) {
  Writer writer = begin(out, Form::accept, client_nonce);
  KWIND_ASSERT(writer.finish() == kAcceptHeadBytes);
}

// The payload is padded to one size: its length says nothing about ticket or versions.
std::size_t write(const Connect& connect, std::span<std::byte> payload) {
  const Identity& identity = connect.identity;
  KWIND_ASSERT(!identity.versions.empty() && identity.versions.size() <= 16);
  KWIND_ASSERT(identity.name.size() <= kMaxNameBytes &&
               connect.code_table_sets.size() <= kMaxCodeTables);
  KWIND_ASSERT(connect.ticket.size() <= kMaxTicketBytes);
  Writer writer(payload.first(kConnectPayloadBytes));
  put_text(writer, identity.name, 7);
  writer.put(identity.versions.size() - 1, 4);
  for (const VersionDigest& entry : identity.versions) {
    writer.put(entry.version, 16);
    put_bytes(writer, entry.digest);
  }
  writer.put_bool(connect.aes);
  writer.put(identity.payload_version, 8);
  writer.put(connect.code_table_sets.size(), 4);
  for (const std::uint64_t set : connect.code_table_sets) writer.put(set, 64);
  if (connect.resume) {
    writer.put(static_cast<std::uint64_t>(Credential::resume), 2);
    put_bytes(writer, connect.resume->bytes());
  } else if (!connect.ticket.empty()) {
    writer.put(static_cast<std::uint64_t>(Credential::ticket), 2);
    put_text(writer, connect.ticket, 10);
  } else {
    writer.put(static_cast<std::uint64_t>(Credential::none), 2);
  }
  pad(writer, payload, kConnectPayloadBytes);
  return kConnectPayloadBytes;
}

// A welcome or a refusal: the first bit says which. The refusal's text is cut between
// characters.
std::size_t write(const Accept& accept, std::span<std::byte> payload) {
  Writer writer(payload.first(kMaxAcceptPayloadBytes));
  writer.put_bool(accept.welcome.has_value());
  if (accept.welcome) {
    const Welcome& welcome = *accept.welcome;
    writer.put(static_cast<std::uint32_t>(welcome.id), kConnectionIdBits);
    writer.put(welcome.version_index, 4);
    writer.put(static_cast<std::uint64_t>(welcome.cipher), 2);
    writer.put(welcome.code_tables, 4);
    writer.put_bool(welcome.resumed);
    put_bytes(writer, welcome.reset);
    writer.put(welcome.reset_nonce, 64);
    writer.put(welcome.resume_window_s, 16);
    put_bytes(writer, welcome.resume.bytes());
  } else {
    const Refusal& refusal = accept.refusal;
    writer.put(static_cast<std::uint64_t>(refusal.code), 8);
    const std::size_t length = valid_utf8_prefix(refusal.text, kMaxRefusalBytes);
    put_text(writer, std::string_view(refusal.text).substr(0, length), 8);
    KWIND_ASSERT(refusal.mismatch.has_value() == (refusal.code == Errc::schema_mismatch));
    if (refusal.mismatch) put(writer, *refusal.mismatch);
  }
  KWIND_ASSERT(writer.ok());
  return writer.finish();
}

// The client's nonce stands at the same place in every form but the two of resets.
Result<std::uint64_t> read_nonce(std::span<const std::byte> datagram) {
  if (datagram.size() < 11) return fail(Errc::truncated);
  return Reader(datagram.subspan(3)).get(64);
}

// A hello must have the full size, or its answer could be larger than the hello.
Result<Opening> read_hello(std::span<const std::byte> datagram) {
  auto opened = open(datagram, Form::hello);
  if (!opened) return fail(opened.error());
  if (datagram.size() != kBaseDatagramBytes) return fail(Errc::truncated);
  const auto opening = get_opening(*opened);
  if (!opening) return fail(opening.error());
  if (const Errc error = rest_is_padding(opened->reader, true); error != Errc::none) {
    return fail(error);
  }
  return *opening;
}

// Reads the head alone: the sealed rest is opened later, if the cookie fits.
Result<ConnectHead> read_connect_head(std::span<const std::byte> datagram) {
  auto opened = open(datagram, Form::connect);
  if (!opened) return fail(opened.error());
  if (datagram.size() != kBaseDatagramBytes) return fail(Errc::truncated);
  const auto opening = get_opening(*opened);
  if (!opening) return fail(opening.error());
  ConnectHead head{*opening, {}};
  opened->reader.get_bits(head.cookie, 128);
  return head;
}

// The cookie is opaque to the client, and as long as the one that is sent back.
Result<CookieReply> read_cookie(std::span<const std::byte> datagram) {
  auto opened = open(datagram, Form::cookie);
  if (!opened) return fail(opened.error());
  CookieReply reply{opened->client_nonce, {}};
  opened->reader.get_bits(reply.cookie, 128);
  if (const Errc error = rest_is_padding(opened->reader, false); error != Errc::none) {
    return fail(error);
  }
  return reply;
}

// An accept is no longer than the connect that asked for it.
Result<std::uint64_t> read_accept_head(std::span<const std::byte> datagram) {
  auto opened = open(datagram, Form::accept);
  if (!opened) return fail(opened.error());
  if (datagram.size() <= kAcceptHeadBytes + NoiseNk::kOverheadBytes) return fail(Errc::truncated);
  if (datagram.size() > kBaseDatagramBytes) return fail(Errc::too_long);
  return opened->client_nonce;
}

// A number that this version does not know counts as a close by the peer.
Result<HandshakeError> read_handshake_error(std::span<const std::byte> datagram) {
  auto opened = open(datagram, Form::handshake_error);
  if (!opened) return fail(opened.error());
  const HandshakeError handshake_error{
      opened->client_nonce, error_from_number(opened->reader.get(8), Errc::closed_by_peer)};
  if (const Errc error = rest_is_padding(opened->reader, false); error != Errc::none) {
    return fail(error);
  }
  return handshake_error;
}

// Versions are read from any link version, as nothing else is.
Result<Versions> read_versions(std::span<const std::byte> datagram) {
  auto opened = open(datagram, Form::versions);
  // Its own link version may be any: it is what a peer of another version says.
  if (!opened && opened.error() != Errc::link_version) return fail(opened.error());
  Reader reader(datagram.subspan(3));
  Versions versions;
  versions.client_nonce = reader.get(64);
  versions.known.resize(reader.get(4));
  for (std::uint16_t& version : versions.known) {
    version = static_cast<std::uint16_t>(reader.get(16));
  }
  if (const Errc error = rest_is_padding(reader, false); error != Errc::none) return fail(error);
  return versions;
}

// Exactly 17 bytes: form and token. Whether the token is right is for the link to decide.
Result<ResetToken> read_reset(std::span<const std::byte> datagram) {
  if (datagram.size() < 17) return fail(Errc::truncated);
  if (datagram.size() > 17) return fail(Errc::trailing_bits);
  if (datagram[0] != static_cast<std::byte>(Form::reset)) return fail(Errc::unknown_form);
  ResetToken token{};
  std::copy(datagram.begin() + 1, datagram.end(), token.begin());
  return token;
}

// Exactly 32 bytes, of which the last 19 are zeros.
Result<Lost> read_lost(std::span<const std::byte> datagram) {
  if (datagram.size() < kLostBytes) return fail(Errc::truncated);
  if (datagram.size() > kLostBytes) return fail(Errc::trailing_bits);
  Reader reader(datagram);
  if (reader.get(8) != static_cast<std::uint64_t>(Form::lost)) return fail(Errc::unknown_form);
  Lost lost;
  lost.id = static_cast<ConnectionId>(reader.get(32));
  lost.reset_nonce = reader.get(64);
  if (const Errc error = rest_is_padding(reader, true); error != Errc::none) return fail(error);
  return lost;
}

// The sender is a stranger. Counts are limited by the width of their fields or checked, and nothing
// after the last field may differ from zero.
Result<Connect> read_connect(std::span<const std::byte> payload) {
  Reader reader(payload);
  Connect connect;
  if (const Errc error = get_text(reader, connect.identity.name, 7, kMaxNameBytes);
      error != Errc::none) {
    return fail(error);
  }
  connect.identity.versions.resize(reader.get(4) + 1);
  for (VersionDigest& entry : connect.identity.versions) {
    entry.version = static_cast<std::uint16_t>(reader.get(16));
    reader.get_bits(entry.digest, 128);
  }
  connect.aes = reader.get_bool();
  connect.identity.payload_version = static_cast<std::uint8_t>(reader.get(8));
  const std::uint64_t sets = reader.get(4);
  if (sets > kMaxCodeTables) return fail(Errc::too_long);
  connect.code_table_sets.resize(sets);
  for (std::uint64_t& set : connect.code_table_sets) set = reader.get(64);
  switch (reader.get(2)) {
    case static_cast<std::uint64_t>(Credential::none): break;
    case static_cast<std::uint64_t>(Credential::ticket):
      if (const Errc error = get_text(reader, connect.ticket, 10, kMaxTicketBytes);
          error != Errc::none) {
        return fail(error);
      }
      if (connect.ticket.empty()) return fail(Errc::value_range);
      break;
    case static_cast<std::uint64_t>(Credential::resume):
      reader.get_bits(connect.resume.emplace().bytes(), 256);
      break;
    default: return fail(Errc::value_range);
  }
  if (const Errc error = rest_is_padding(reader, true); error != Errc::none) return fail(error);
  return connect;
}

// Welcome or refusal. A cipher that does not exist is refused; the index of the version is checked
// against what was offered by the caller, who knows the list.
Result<Accept> read_accept(std::span<const std::byte> payload) {
  Reader reader(payload);
  Accept accept;
  if (reader.get_bool()) {
    Welcome& welcome = accept.welcome.emplace();
    welcome.id = static_cast<ConnectionId>(reader.get(kConnectionIdBits));
    welcome.version_index = static_cast<std::uint8_t>(reader.get(4));
    const std::uint64_t cipher = reader.get(2);
    if (cipher > 1) return fail(Errc::value_range);
    welcome.cipher = static_cast<Cipher>(cipher);
    welcome.code_tables = static_cast<std::uint8_t>(reader.get(4));
    welcome.resumed = reader.get_bool();
    reader.get_bits(welcome.reset, 128);
    welcome.reset_nonce = reader.get(64);
    welcome.resume_window_s = static_cast<std::uint16_t>(reader.get(16));
    reader.get_bits(welcome.resume.bytes(), 256);
  } else {
    Refusal& refusal = accept.refusal;
    refusal.code = error_from_number(reader.get(8), Errc::closed_by_peer);
    if (const Errc error = get_text(reader, refusal.text, 8, kMaxRefusalBytes);
        error != Errc::none) {
      return fail(error);
    }
    if (refusal.code == Errc::schema_mismatch) {
      auto mismatch = get_mismatch(reader);
      if (!mismatch) return fail(mismatch.error());
      refusal.mismatch = std::move(*mismatch);
    }
  }
  if (const Errc error = rest_is_padding(reader, false); error != Errc::none) return fail(error);
  return accept;
}

// The label and all bytes of the connect that are not sealed: Noise hashes them first.
std::vector<std::byte> prologue_of(std::span<const std::byte> connect_head) {
  std::vector<std::byte> prologue(kPrologueLabel.size() + connect_head.size());
  const auto after = std::transform(kPrologueLabel.begin(), kPrologueLabel.end(), prologue.begin(),
                                    [](char c) { return static_cast<std::byte>(c); });
  std::copy(connect_head.begin(), connect_head.end(), after);
  return prologue;
}

// The epoch changes every ten seconds.
Cookie make_cookie(const Secret32& secret, const Endpoint& from, std::uint64_t client_nonce,
                   Time now) {
  return cookie_at(secret, from, client_nonce, cookie_epoch(now));
}

// Both epochs are always compared, each in constant time.
bool cookie_fits(const Cookie& cookie, const Secret32& secret, const Endpoint& from,
                 std::uint64_t client_nonce, Time now) {
  const std::int64_t epoch = cookie_epoch(now);
  const bool fresh = same_secret(cookie, cookie_at(secret, from, client_nonce, epoch));
  const bool older = same_secret(cookie, cookie_at(secret, from, client_nonce, epoch - 1));
  return fresh || older;
}

// Plaintext mode has messages of the same size as Noise has: 32 random bytes take the place of the
// ephemeral key, and a check the place of the tag.
void write_plaintext(std::span<const std::byte, 32> random, std::span<const std::byte> payload,
                     std::span<std::byte> message) {
  KWIND_ASSERT(message.size() == payload.size() + NoiseNk::kOverheadBytes);
  std::copy(random.begin(), random.end(), message.begin());
  std::copy(payload.begin(), payload.end(), message.begin() + NoiseNk::kKeyBytes);
  const auto checked = message.first(message.size() - NoiseNk::kTagBytes);
  const auto tag = message.last(NoiseNk::kTagBytes);
  std::fill(tag.begin(), tag.end(), std::byte{0});
  Writer check(tag.first(kCheckBytes));
  check.put(keyed_check(known_key(), checked, 0), 32);
  check.finish();
}

// False checks and tags with other bits are refused alike.
Result<std::span<const std::byte>> read_plaintext(std::span<const std::byte> message) {
  const auto checked = message.first(message.size() - NoiseNk::kTagBytes);
  const auto tag = message.last(NoiseNk::kTagBytes);
  Reader check(tag);
  const bool fits = check.get(32) == keyed_check(known_key(), checked, 0);
  const bool zeros = std::all_of(tag.begin() + kCheckBytes, tag.end(),
                                 [](std::byte byte) { return byte == std::byte{0}; });
  if (!fits || !zeros) return fail(Errc::bad_check);
  return checked.subspan(NoiseNk::kKeyBytes);
}

// The check of plaintext data catches accidents and strays; anybody on the path can compute its
// key.
Key128 plaintext_key(std::string_view label, std::span<const std::byte> client,
                     std::span<const std::byte> server, ConnectionId id) {
  std::array<std::byte, 68> data{};
  Writer writer(data);
  put_bytes(writer, client.first(32));
  put_bytes(writer, server.first(32));
  writer.put(static_cast<std::uint32_t>(id), 32);
  writer.finish();
  return keyed_blake2b_128(known_key(), label, data);
}

}  // namespace kwind::link
