// The datagrams of the handshake in clear mode: hello, cookie, welcome, refusal, versions.
// Layouts are in docs/wire-format.md. Pure functions.
#pragma once
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "kwind/bits/digest.h"
#include "kwind/bits/endpoint.h"
#include "kwind/bits/errors.h"
#include "kwind/bits/time.h"
#include "kwind/link/spec.h"
#include "mismatch.h"

namespace kwind::link {

/// The low three bits of a datagram's first byte.
enum class Form : std::uint8_t {
  data = 1,
  hello = 2,
  cookie = 3,
  welcome = 4,
  refusal = 5,
  versions = 6
};
inline constexpr unsigned kFormBits = 3;

using Cookie = bits::Digest128;

struct Hello {
  std::uint16_t link_version = kLinkVersion;
  std::uint64_t client_nonce = 0;
  std::optional<Cookie> cookie;
  Identity identity;
};
struct CookieReply {
  std::uint64_t client_nonce = 0;
  Cookie cookie{};
};
struct Welcome {
  std::uint64_t client_nonce = 0;
  std::uint64_t server_nonce = 0;
  ConnectionId id{};
  std::uint8_t version_index = 0;  ///< place of the agreed version in the hello's list
};
struct Refusal {
  std::uint64_t client_nonce = 0;
  Errc code = Errc::none;
  std::string text;                    ///< at most 160 bytes
  std::optional<Mismatch> mismatch{};  ///< with schema_mismatch, and only then
};
struct Versions {
  std::uint64_t client_nonce = 0;
  std::vector<std::uint16_t> known;  ///< at most 15
};

/// Each writes a whole datagram, check included, and returns its length. A hello fills
/// kMaxDatagramBytes. `out` must be kMaxDatagramBytes long.
std::size_t write(const Hello& hello, std::span<std::byte> out);
std::size_t write(const CookieReply& reply, std::span<std::byte> out);
std::size_t write(const Welcome& welcome, std::span<std::byte> out);
std::size_t write(const Refusal& refusal, std::span<std::byte> out);
std::size_t write(const Versions& versions, std::span<std::byte> out);

/// The form named by the first byte. Errors: truncated, unknown_form.
Result<Form> form_of(std::span<const std::byte> datagram);

/// Each reads a whole datagram of its form. Errors: truncated, unknown_form, bad_check,
/// trailing_bits, value_range, text_encoding; link_version, for a hello of another version, whose
/// other members are then not read.
Result<Hello> read_hello(std::span<const std::byte> datagram);
Result<CookieReply> read_cookie(std::span<const std::byte> datagram);
Result<Welcome> read_welcome(std::span<const std::byte> datagram);
Result<Refusal> read_refusal(std::span<const std::byte> datagram);
Result<Versions> read_versions(std::span<const std::byte> datagram);
/// The client nonce of a hello of any link version: it stands at the same place in all of them.
Result<std::uint64_t> read_hello_nonce(std::span<const std::byte> datagram);

/// A cookie binds an address and a nonce to the time: valid for 10 to 20 seconds.
Cookie make_cookie(const bits::Key128& secret, const Endpoint& from, std::uint64_t client_nonce,
                   Time now);
bool cookie_fits(const Cookie& cookie, const bits::Key128& secret, const Endpoint& from,
                 std::uint64_t client_nonce, Time now);

/// The keys of the 32-bit checks of one connection's datagrams, one for each direction.
struct CheckKeys {
  bits::Key128 up{};    ///< client to server
  bits::Key128 down{};  ///< server to client
};
CheckKeys make_check_keys(std::uint64_t client_nonce, std::uint64_t server_nonce, ConnectionId id);

}  // namespace kwind::link
