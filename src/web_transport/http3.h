// The parts of HTTP/3 (RFC 9114) that a WebTransport server reads and writes: variable-length
// integers, type-length-value records, header blocks. Pure; no connection, no clock. QPACK
// (RFC 9204) is nghttp3's, without a dynamic table.
#pragma once
#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace kwind::web {

namespace h3 {

// Frame types (RFC 9114, 7.2).
inline constexpr std::uint64_t kData = 0x00;
inline constexpr std::uint64_t kHeaders = 0x01;
inline constexpr std::uint64_t kSettings = 0x04;
// Types of unidirectional streams (RFC 9114, 6.2; RFC 9204, 4.2).
inline constexpr std::uint64_t kControlStream = 0x00;
// The first number of a bidirectional stream that belongs to a WebTransport session.
inline constexpr std::uint64_t kSessionStream = 0x41;
// Capsules (RFC 9297): the end of a WebTransport session.
inline constexpr std::uint64_t kCloseSession = 0x2843;
// Error codes (RFC 9114, 8.1).
inline constexpr std::uint64_t kNoError = 0x100;
inline constexpr std::uint64_t kGeneralProtocolError = 0x101;
inline constexpr std::uint64_t kExcessiveLoad = 0x107;
inline constexpr std::uint64_t kMessageError = 0x10e;
inline constexpr std::uint64_t kRequestCancelled = 0x10c;

}  // namespace h3

/// Appends a variable-length integer (RFC 9000, 16). Requires: below 2^62.
void put_varint(std::string& out, std::uint64_t value);
/// Takes one from the front of `in`; nothing if `in` ends within it, and then `in` is unchanged.
std::optional<std::uint64_t> take_varint(std::string_view& in);

/// The control stream's first bytes: its type, and the SETTINGS of a server that offers
/// WebTransport in every draft that browsers ask for.
std::string control_stream_start();

/// Cuts a stream of type-length-value records, which arrive in pieces, into records: frames
/// (RFC 9114, 7.1), and the capsules in DATA frames (RFC 9297, 3.2). Memory: one value of at most
/// kMaxValueBytes.
class RecordReader {
 public:
  static constexpr std::size_t kMaxValueBytes = 8192;
  /// How the value of a record is wanted.
  enum class Value : std::uint8_t { whole, pieces, skipped };
  class Sink {
   public:
    virtual ~Sink() = default;
    /// A record of this type begins.
    virtual Value begins(std::uint64_t type) = 0;
    /// The whole value, or the next piece. False: the stream is of no use any more.
    virtual bool value(std::uint64_t type, std::string_view bytes) = 0;
  };
  /// Takes what arrived. False: the sink said so, or a value that is wanted whole is longer than
  /// kMaxValueBytes.
  bool feed(std::string_view bytes, Sink& sink);

 private:
  bool read_head(std::string_view& bytes, Sink& sink);

  std::string head_{};  // type and length so far, at most 16 bytes
  std::uint64_t type_ = 0;
  std::uint64_t left_ = 0;  // of the value
  Value wanted_ = Value::skipped;
  bool in_value_ = false;
  std::string kept_{};
};

/// The header fields of one request. A name that comes twice keeps its first value.
using Fields = std::map<std::string, std::string, std::less<>>;
/// Decodes a header block. Nothing: it is malformed, needs a dynamic table, or has more than 64
/// fields.
std::optional<Fields> read_header_block(std::int64_t stream_id, std::string_view block);
/// Encodes one. Nothing if memory is short.
std::optional<std::string> write_header_block(
    std::int64_t stream_id, const std::vector<std::pair<std::string, std::string>>& fields);

/// A frame: type, length, value.
std::string frame(std::uint64_t type, std::string_view value);

}  // namespace kwind::web
