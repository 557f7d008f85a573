// Reads the datagrams of other people's connections: what each part of a captured datagram is, down
// to the bit. It follows every handshake and data datagram that it is shown, in order; with the
// keys of a key log it opens encrypted ones. Bytes in, plain values out; nothing here takes part in
// a connection. One observer, one thread.
#pragma once
#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string_view>
#include <utility>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/core/endpoint.h"
#include "kwind/core/errors.h"
#include "kwind/core/secret.h"
#include "kwind/core/time.h"
#include "kwind/link/spec.h"

namespace kwind::link {

/// A key of a key log, kept; see KeyNote.
struct DatagramKey {
  ConnectionId id{};
  std::uint16_t version = 0;
  bool up = false;
  std::uint64_t phase = 0;
  std::uint8_t cipher = 0;
  Secret32 key;
};

/// A run of bits of a datagram, and what they are. The parts of a datagram stand in order and leave
/// no bit out.
struct ObservedPart {
  enum class Kind : std::uint8_t {
    handshake,  ///< all of a datagram that is no data
    header,     ///< flags, connection id, packet number
    acks,
    message,
    piece,      ///< of a split message
    parity,     ///< of several small messages
    payload,    ///< of the layer above the link
    control,    ///< ping, close, window, challenge, response
    padding,    ///< zeros of a control frame, and those that fill the last byte
    encrypted,  ///< a body that no key opened
    tag,        ///< AEAD tag, or the check in plaintext mode
  };
  Kind kind = Kind::handshake;
  std::size_t bits = 0;  ///< all of it
  std::string_view control{};
  // Of frames of a channel:
  std::uint8_t channel = 0;
  /// Reliable and ordered: the message's, unwrapped. Pieces of others: one for each message.
  /// Sequenced: how many packets back it first left.
  std::uint64_t number = 0;
  bool copy = false;             ///< sequenced: it first left in an earlier packet, `number` back
  std::size_t payload_bits = 0;  ///< message; parity: of the longest one
  std::size_t total_bits = 0;    ///< piece: of the whole message
  std::size_t first_byte = 0;    ///< piece
  std::vector<std::byte> payload{};  ///< message, piece, fill
  // Of acks: runs of packet numbers, newest first, both ends included.
  std::vector<std::pair<std::uint64_t, std::uint64_t>> acked{};
  Duration ack_delay{0};
};

/// A captured datagram, taken apart.
struct ObservedDatagram {
  /// As docs/wire-format.md names the forms: "hello", "cookie", "connect", "accept",
  /// "handshake error", "versions", "stateless reset", "reset query", "data"; "foreign" for a
  /// datagram of no connection that is known here.
  std::string_view form = "foreign";
  bool up = false;
  bool encrypted = false;
  bool opened = false;  ///< its frames could be read
  Errc problem = Errc::none;
  Endpoint client;
  std::optional<ConnectionId> id{};
  std::uint64_t number = 0;   ///< packet number, if opened; else its low bits
  std::uint16_t version = 0;  ///< agreed version of the protocol, if known
  std::size_t bytes = 0;
  std::vector<ObservedPart> parts{};
  std::vector<std::byte> plain{};  ///< opened and encrypted: header and body as they were before
};

/// What an observer knows of the connections beforehand.
struct ObserverOptions {
  std::vector<ChannelSpec> channels;    ///< of all versions, as LinkOptions::channels
  std::vector<std::uint16_t> versions;  ///< of the protocol, newest first
  std::vector<DatagramKey> keys{};
  /// Where a server is whose handshakes were not captured.
  std::optional<Endpoint> server{};
};

/// Follows the connections of a capture.
class KWIND_API Observer {
 public:
  explicit Observer(ObserverOptions options);
  Observer(Observer&&) noexcept;
  ~Observer();

  /// Reads the next datagram. O(its size), but for the first of a connection whose beginning was
  /// not captured, whose packet number has to be found by trying.
  ObservedDatagram observe(const Endpoint& from, const Endpoint& to,
                           std::span<const std::byte> datagram);

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace kwind::link
