#include "handshake.h"

#include <algorithm>
#include <cstring>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"

namespace kwind::link {
namespace {

using bits::Reader;
using bits::Writer;

constexpr std::size_t kCheckBytes = 4;
constexpr unsigned kClearMode = 1;
constexpr std::size_t kMaxNameBytes = 64;
constexpr std::size_t kMaxRefusalBytes = 160;

// Handshake datagrams are checked against accident under a key that everybody knows.
const bits::Key128& public_key() {
  static const bits::Key128 key = bits::blake2b_128("kestrel wind handshake 1");
  return key;
}

Writer begin(std::span<std::byte> out, Form form, std::uint64_t client_nonce,
             std::uint16_t link_version = kLinkVersion) {
  KWIND_ASSERT(out.size() >= kMaxDatagramBytes);
  Writer writer(out.first(kMaxDatagramBytes - kCheckBytes));
  writer.put(static_cast<std::uint64_t>(form), 8);
  writer.put(link_version, 16);
  writer.put(client_nonce, 64);
  return writer;
}

std::size_t end(Writer& writer, std::span<std::byte> out, std::size_t padded_bytes = 0) {
  KWIND_ASSERT(writer.ok());
  std::size_t size = writer.finish();
  if (size + kCheckBytes < padded_bytes) {
    std::fill(out.begin() + static_cast<std::ptrdiff_t>(size),
              out.begin() + static_cast<std::ptrdiff_t>(padded_bytes), std::byte{0});
    size = padded_bytes - kCheckBytes;
  }
  Writer check(out.subspan(size, kCheckBytes));
  check.put(bits::keyed_check(public_key(), out.first(size), 0), 32);
  check.finish();
  return size + kCheckBytes;
}

void put_bytes(Writer& writer, std::span<const std::byte> bytes) {
  writer.put_bits(bytes, bytes.size() * 8);
}

// Checks form and check of a datagram; gives a reader that stands behind the client nonce.
struct Opened {
  Reader reader;
  std::uint64_t client_nonce;
};
Result<Opened> open(std::span<const std::byte> datagram, Form form) {
  if (datagram.size() < 11 + kCheckBytes) return fail(Errc::truncated);
  const auto body = datagram.first(datagram.size() - kCheckBytes);
  Reader check(datagram.last(kCheckBytes));
  Reader reader(body);
  if (reader.get(8) != static_cast<std::uint64_t>(form)) return fail(Errc::unknown_form);
  // The version comes first: another version may well check its datagrams in another way.
  if (reader.get(16) != kLinkVersion) return fail(Errc::link_version);
  if (check.get(32) != bits::keyed_check(public_key(), body, 0)) return fail(Errc::bad_check);
  const std::uint64_t nonce = reader.get(64);
  return Opened{reader, nonce};
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

void get_text(Reader& reader, std::string& text, std::size_t size) {
  if (size * 8 > reader.left_bits()) return reader.set_failed();
  text.resize(size);
  reader.get_bits(std::as_writable_bytes(std::span(text.data(), size)), size * 8);
}

Cookie cookie_at(const bits::Key128& secret, const Endpoint& from, std::uint64_t client_nonce,
                 std::int64_t epoch) {
  std::array<std::byte, 34> data{};
  Writer writer(data);
  for (const std::uint8_t byte : from.ip) writer.put(byte, 8);
  writer.put(from.port, 16);
  writer.put(client_nonce, 64);
  writer.put(static_cast<std::uint64_t>(epoch), 64);
  writer.finish();
  return bits::keyed_blake2b_128(secret, "cookie", data);
}

std::int64_t cookie_epoch(Time now) {
  return std::chrono::floor<std::chrono::seconds>(now.time_since_epoch()).count() / 10;
}

}  // namespace

std::size_t write(const Hello& hello, std::span<std::byte> out) {
  KWIND_ASSERT(!hello.identity.versions.empty() && hello.identity.versions.size() <= 16);
  KWIND_ASSERT(hello.identity.name.size() <= kMaxNameBytes);
  Writer writer = begin(out, Form::hello, hello.client_nonce, hello.link_version);
  writer.put(kClearMode, 8);
  writer.put_bool(hello.cookie.has_value());
  if (hello.cookie) put_bytes(writer, *hello.cookie);
  writer.put(hello.identity.name.size(), 7);
  put_bytes(writer, std::as_bytes(std::span(hello.identity.name)));
  writer.put(hello.identity.versions.size() - 1, 4);
  for (const VersionDigest& entry : hello.identity.versions) {
    writer.put(entry.version, 16);
    put_bytes(writer, entry.digest);
  }
  return end(writer, out, kMaxDatagramBytes);
}

std::size_t write(const CookieReply& reply, std::span<std::byte> out) {
  Writer writer = begin(out, Form::cookie, reply.client_nonce);
  put_bytes(writer, reply.cookie);
  return end(writer, out);
}

std::size_t write(const Welcome& welcome, std::span<std::byte> out) {
  Writer writer = begin(out, Form::welcome, welcome.client_nonce);
  writer.put(welcome.server_nonce, 64);
  writer.put(static_cast<std::uint32_t>(welcome.id), 32);
  writer.put(welcome.version_index, 4);
  return end(writer, out);
}

std::size_t write(const Refusal& refusal, std::span<std::byte> out) {
  Writer writer = begin(out, Form::refusal, refusal.client_nonce);
  const std::size_t size = std::min(refusal.text.size(), kMaxRefusalBytes);
  writer.put(static_cast<std::uint64_t>(refusal.code), 8);
  writer.put(size, 8);
  put_bytes(writer, std::as_bytes(std::span(refusal.text)).first(size));
  KWIND_ASSERT(refusal.mismatch.has_value() == (refusal.code == Errc::schema_mismatch));
  if (refusal.mismatch) put(writer, *refusal.mismatch);
  return end(writer, out);
}

std::size_t write(const Versions& versions, std::span<std::byte> out) {
  KWIND_ASSERT(versions.known.size() <= 15);
  Writer writer = begin(out, Form::versions, versions.client_nonce);
  writer.put(versions.known.size(), 4);
  for (const std::uint16_t version : versions.known) writer.put(version, 16);
  return end(writer, out);
}

Result<Form> form_of(std::span<const std::byte> datagram) {
  if (datagram.empty()) return fail(Errc::truncated);
  const auto form = std::to_integer<unsigned>(datagram[0]) & ((1U << kFormBits) - 1);
  if (form < 1 || form > 6) return fail(Errc::unknown_form);
  return static_cast<Form>(form);
}

Result<std::uint64_t> read_hello_nonce(std::span<const std::byte> datagram) {
  if (datagram.size() < 11 + kCheckBytes) return fail(Errc::truncated);
  Reader reader(datagram.subspan(3));
  return reader.get(64);
}

Result<Hello> read_hello(std::span<const std::byte> datagram) {
  auto opened = open(datagram, Form::hello);
  if (!opened) return fail(opened.error());
  if (datagram.size() != kMaxDatagramBytes) return fail(Errc::truncated);
  Reader& reader = opened->reader;
  Hello hello;
  hello.client_nonce = opened->client_nonce;
  if (reader.get(8) != kClearMode) return fail(Errc::value_range);
  if (reader.get_bool()) reader.get_bits(hello.cookie.emplace(), 128);
  const std::uint64_t name_bytes = reader.get(7);
  if (name_bytes > kMaxNameBytes) return fail(Errc::too_long);
  get_text(reader, hello.identity.name, name_bytes);
  hello.identity.versions.resize(reader.get(4) + 1);
  for (VersionDigest& entry : hello.identity.versions) {
    entry.version = static_cast<std::uint16_t>(reader.get(16));
    reader.get_bits(entry.digest, 128);
  }
  if (const Errc error = rest_is_padding(reader, true); error != Errc::none) return fail(error);
  return hello;
}

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

Result<Welcome> read_welcome(std::span<const std::byte> datagram) {
  auto opened = open(datagram, Form::welcome);
  if (!opened) return fail(opened.error());
  Welcome welcome;
  welcome.client_nonce = opened->client_nonce;
  welcome.server_nonce = opened->reader.get(64);
  welcome.id = static_cast<ConnectionId>(opened->reader.get(32));
  welcome.version_index = static_cast<std::uint8_t>(opened->reader.get(4));
  if (const Errc error = rest_is_padding(opened->reader, false); error != Errc::none) {
    return fail(error);
  }
  return welcome;
}

Result<Refusal> read_refusal(std::span<const std::byte> datagram) {
  auto opened = open(datagram, Form::refusal);
  if (!opened) return fail(opened.error());
  Refusal refusal;
  refusal.client_nonce = opened->client_nonce;
  refusal.code = error_from_number(opened->reader.get(8), Errc::closed_by_peer);
  const std::uint64_t size = opened->reader.get(8);
  if (size > kMaxRefusalBytes) return fail(Errc::too_long);
  get_text(opened->reader, refusal.text, size);
  if (refusal.code == Errc::schema_mismatch) {
    auto mismatch = get_mismatch(opened->reader);
    if (!mismatch) return fail(mismatch.error());
    refusal.mismatch = std::move(*mismatch);
  }
  if (const Errc error = rest_is_padding(opened->reader, false); error != Errc::none) {
    return fail(error);
  }
  return refusal;
}

Result<Versions> read_versions(std::span<const std::byte> datagram) {
  auto opened = open(datagram, Form::versions);
  if (!opened) return fail(opened.error());
  Versions versions;
  versions.client_nonce = opened->client_nonce;
  versions.known.resize(opened->reader.get(4));
  for (std::uint16_t& version : versions.known) {
    version = static_cast<std::uint16_t>(opened->reader.get(16));
  }
  if (const Errc error = rest_is_padding(opened->reader, false); error != Errc::none) {
    return fail(error);
  }
  return versions;
}

Cookie make_cookie(const bits::Key128& secret, const Endpoint& from, std::uint64_t client_nonce,
                   Time now) {
  return cookie_at(secret, from, client_nonce, cookie_epoch(now));
}

bool cookie_fits(const Cookie& cookie, const bits::Key128& secret, const Endpoint& from,
                 std::uint64_t client_nonce, Time now) {
  const std::int64_t epoch = cookie_epoch(now);
  const bool fresh = bits::same_bytes(cookie, cookie_at(secret, from, client_nonce, epoch));
  const bool older = bits::same_bytes(cookie, cookie_at(secret, from, client_nonce, epoch - 1));
  return fresh || older;
}

CheckKeys make_check_keys(std::uint64_t client_nonce, std::uint64_t server_nonce, ConnectionId id) {
  std::array<std::byte, 20> data{};
  Writer writer(data);
  writer.put(client_nonce, 64);
  writer.put(server_nonce, 64);
  writer.put(static_cast<std::uint32_t>(id), 32);
  writer.finish();
  return {bits::keyed_blake2b_128(public_key(), "clear up", data),
          bits::keyed_blake2b_128(public_key(), "clear down", data)};
}

}  // namespace kwind::link
