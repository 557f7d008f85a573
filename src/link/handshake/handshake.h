// The datagrams of the handshake: hello, cookie, connect, accept, handshake error, versions; and
// the stateless reset (RFC 9000, 10.3) of a restarted server. Layouts in docs/wire-format.md. Pure
// functions.
#pragma once
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "kwind/core/digest.h"
#include "kwind/core/endpoint.h"
#include "kwind/core/errors.h"
#include "kwind/core/secret.h"
#include "kwind/core/time.h"
#include "kwind/link/spec.h"
#include "link/datagram/aead.h"
#include "link/handshake/mismatch.h"
#include "link/handshake/noise.h"

namespace kwind::link {

/// The first byte of a datagram that carries no data: its lowest bit is 0. See data_header.h for
/// the others.
enum class Form : std::uint8_t {
  hello = 1 << 1,
  cookie = 2 << 1,
  connect = 3 << 1,
  accept = 4 << 1,
  handshake_error = 5 << 1,
  versions = 6 << 1,
  reset = 7 << 1,
  lost = 8 << 1,
};

using Cookie = Digest128;
/// By it a client knows that a reset is from its server.
using ResetToken = Digest128;

/// What hello and connect start with; the Noise prologue of a connect.
struct Opening {
  std::uint16_t link_version = kLinkVersion;
  std::uint64_t client_nonce = 0;
  Mode mode = Mode::encrypted;
  TransportKind transport_kind = TransportKind::datagrams;
};
struct CookieReply {
  std::uint64_t client_nonce = 0;
  Cookie cookie{};
};
/// What the client says inside the connect.
struct Connect {
  Identity identity;
  bool aes = false;                            ///< AES-256-GCM would do as well
  std::vector<std::uint64_t> code_table_sets;  ///< digests, at most 8
  std::string ticket;                          ///< at most kMaxTicketBytes; empty: none
  std::optional<Secret32> resume;              ///< in place of a ticket
  ~Connect() { wipe(std::as_writable_bytes(std::span(ticket))); }
};
/// What the server says inside the answer when it agrees.
struct Welcome {
  ConnectionId id{};
  std::uint8_t version_index = 0;  ///< place of the agreed version in the connect's list
  Cipher cipher = Cipher::chacha20_poly1305;
  std::uint8_t code_tables = 0;  ///< 0: the built-in one; else place in the connect's list plus one
  bool resumed = false;          ///< an earlier connection's identity was taken over
  ResetToken reset{};
  std::uint64_t reset_nonce = 0;  ///< by which this client alone may ask for that
  Secret32 resume;                ///< for one later return
  std::uint16_t resume_window_s =
      0;  ///< how long after the end it is good, in seconds; 0: not at all
};
/// ... or when it does not.
struct Refusal {
  Errc code = Errc::none;
  std::string text;                    ///< at most 160 bytes
  std::optional<Mismatch> mismatch{};  ///< with schema_mismatch, and only then
};
struct Accept {
  std::optional<Welcome> welcome;
  Refusal refusal{};  ///< without a welcome
};
/// A plain word to an address that has proven itself; anybody on the path can forge it.
struct HandshakeError {
  std::uint64_t client_nonce = 0;
  Errc code = Errc::none;
};
struct Versions {
  std::uint64_t client_nonce = 0;
  std::vector<std::uint16_t> known;  ///< at most 15
};

/// Whether the datagram is of the handshake; others carry data. Requires: not empty.
inline bool is_data(std::span<const std::byte> datagram) {
  return (datagram[0] & std::byte{1}) != std::byte{0};
}
/// The form named by the first byte of a datagram that is not data. Errors: truncated,
/// unknown_form.
Result<Form> form_of(std::span<const std::byte> datagram);

/// Each writes a whole datagram and returns its length. `out` must be kBaseDatagramBytes long;
/// hello and connect fill that.
std::size_t write_hello(const Opening& opening, std::span<std::byte> out);
std::size_t write(const CookieReply& reply, std::span<std::byte> out);
std::size_t write(const HandshakeError& handshake_error, std::span<std::byte> out);
std::size_t write(const Versions& versions, std::span<std::byte> out);
std::size_t write_reset(const ResetToken& token, std::span<std::byte> out);
/// What a client asks that receives nothing any more: whether its connection is known. Longer than the
/// answer, a reset, so that nobody is sent more than was sent.
struct Lost {
  ConnectionId id{};
  std::uint64_t reset_nonce = 0;
};
inline constexpr std::size_t kLostBytes = 32;
std::size_t write(const Lost& lost, std::span<std::byte> out);
Result<Lost> read_lost(std::span<const std::byte> datagram);

/// Where the two messages of Noise_NK stand in connect and answer. In plaintext mode the same
/// places hold 32 random bytes, the payload as it is, and its check.
inline constexpr std::size_t kOpeningBytes = 13;
inline constexpr std::size_t kConnectHeadBytes = kOpeningBytes + 16;
inline constexpr std::size_t kAcceptHeadBytes = 11;
inline constexpr std::size_t kConnectPayloadBytes =
    kBaseDatagramBytes - kConnectHeadBytes - NoiseNk::kOverheadBytes;
inline constexpr std::size_t kMaxAcceptPayloadBytes =
    kBaseDatagramBytes - kAcceptHeadBytes - NoiseNk::kOverheadBytes;

/// Writes the part before the Noise message: kConnectHeadBytes, the prologue.
void write_connect_head(const Opening& opening, const Cookie& cookie, std::span<std::byte> out);
void write_accept_head(std::uint64_t client_nonce, std::span<std::byte> out);
/// Payloads. A connect fills kConnectPayloadBytes with zeros; an answer has the length it needs.
std::size_t write(const Connect& connect, std::span<std::byte> payload);
std::size_t write(const Accept& accept, std::span<std::byte> payload);

/// Each reads a whole datagram, or payload, of its form. Errors: truncated, unknown_form,
/// trailing_bits, value_range, text_encoding, too_long; link_version, for another version.
Result<Opening> read_hello(std::span<const std::byte> datagram);
struct ConnectHead {
  Opening opening;
  Cookie cookie{};
};
Result<ConnectHead> read_connect_head(std::span<const std::byte> datagram);
Result<CookieReply> read_cookie(std::span<const std::byte> datagram);
/// The client's nonce.
Result<std::uint64_t> read_accept_head(std::span<const std::byte> datagram);
Result<HandshakeError> read_handshake_error(std::span<const std::byte> datagram);
Result<Versions> read_versions(std::span<const std::byte> datagram);
Result<ResetToken> read_reset(std::span<const std::byte> datagram);
Result<Connect> read_connect(std::span<const std::byte> payload);
Result<Accept> read_accept(std::span<const std::byte> payload);
/// The client's nonce in a hello or connect of any link version: it stands at the same place in
/// all.
Result<std::uint64_t> read_nonce(std::span<const std::byte> datagram);

/// What stands before the connect's head in the Noise prologue.
inline constexpr std::string_view kPrologueLabel = "kestrel wind 3";
std::vector<std::byte> prologue_of(std::span<const std::byte> connect_head);

/// A cookie binds an address and a nonce to the time: valid for 10 to 20 seconds.
Cookie make_cookie(const Secret32& secret, const Endpoint& from, std::uint64_t client_nonce,
                   Time now);
bool cookie_fits(const Cookie& cookie, const Secret32& secret, const Endpoint& from,
                 std::uint64_t client_nonce, Time now);

// ---- plaintext mode ----

/// Closes a plaintext connect or answer: payload at kKeyBytes into `message`, then the check and
/// zeros, as long as Noise would make it. `random` fills the place of the ephemeral key.
void write_plaintext(std::span<const std::byte, 32> random, std::span<const std::byte> payload,
                     std::span<std::byte> message);
/// The payload of a plaintext message. Errors: bad_check.
Result<std::span<const std::byte>> read_plaintext(std::span<const std::byte> message);
/// The keys of the checks, from what both ends put in the ephemeral keys' places.
Key128 plaintext_key(std::string_view label, std::span<const std::byte> client,
                     std::span<const std::byte> server, ConnectionId id);

}  // namespace kwind::link
