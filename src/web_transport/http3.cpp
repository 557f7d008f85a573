// HTTP/3 framing (RFC 9114, 7.1), variable-length integers (RFC 9000, 16) and header blocks
// (RFC 9204, with static table and literals only).
//
// A WebTransport server needs little of HTTP/3: it sends SETTINGS once, reads one extended CONNECT
// request (RFC 9220) and answers it. Datagrams then bypass this file. Everything that a client may
// send and that is not needed is skipped without being kept: unknown frames and capsules are legal,
// and browsers send some on purpose (RFC 9114, 7.2.8).
#include "web_transport/http3.h"

#include <nghttp3/nghttp3.h>

#include <algorithm>

namespace kwind::web {
namespace {

// Identifiers of SETTINGS, and what a browser infers from each.
constexpr std::uint64_t kQpackTableCapacity = 0x01;  // 0: no dynamic table, no QPACK streams
constexpr std::uint64_t kQpackBlockedStreams = 0x07;
constexpr std::uint64_t kEnableConnectProtocol = 0x08;  // RFC 9220
constexpr std::uint64_t kH3Datagram = 0x33;             // RFC 9297
constexpr std::uint64_t kWebTransportDraft02 = 0x2b603742;
constexpr std::uint64_t kWebTransportMaxSessionsDraft07 = 0xc671706a;
constexpr std::uint64_t kWebTransportMaxSessionsDraft13 = 0x14e9cd29;
constexpr std::size_t kMaxFields = 64;

struct DecoderDelete {
  void operator()(nghttp3_qpack_decoder* decoder) const { nghttp3_qpack_decoder_del(decoder); }
};
struct EncoderDelete {
  void operator()(nghttp3_qpack_encoder* encoder) const { nghttp3_qpack_encoder_del(encoder); }
};
struct ContextDelete {
  void operator()(nghttp3_qpack_stream_context* context) const {
    nghttp3_qpack_stream_context_del(context);
  }
};
template <class T, class Delete>
using Owned = std::unique_ptr<T, Delete>;

std::string text_of(nghttp3_rcbuf* buffer) {
  const nghttp3_vec bytes = nghttp3_rcbuf_get_buf(buffer);
  return {reinterpret_cast<const char*>(bytes.base), bytes.len};
}

// A buffer that nghttp3 fills and that is freed here.
class Buffer {
 public:
  Buffer() { nghttp3_buf_init(&buffer_); }
  Buffer(const Buffer&) = delete;
  Buffer& operator=(const Buffer&) = delete;
  ~Buffer() { nghttp3_buf_free(&buffer_, nghttp3_mem_default()); }
  nghttp3_buf* get() { return &buffer_; }
  [[nodiscard]] std::string_view text() const {
    return {reinterpret_cast<const char*>(buffer_.pos), nghttp3_buf_len(&buffer_)};
  }

 private:
  nghttp3_buf buffer_{};
};

}  // namespace

// The two highest bits of the first byte are the logarithm of the length in bytes.
void put_varint(std::string& out, std::uint64_t value) {
  const unsigned log = value < (1U << 6) ? 0 : value < (1U << 14) ? 1 : value < (1U << 30) ? 2 : 3;
  const unsigned bytes = 1U << log;
  for (unsigned i = bytes; i-- > 0;) {
    auto byte = static_cast<unsigned char>(value >> (8 * i));
    if (i + 1 == bytes) byte = static_cast<unsigned char>(byte | (log << 6));
    out.push_back(static_cast<char>(byte));
  }
}

// Takes a variable-length integer (RFC 9000, 16) off the front; nothing, and `in` unchanged, while
// bytes are missing.
std::optional<std::uint64_t> take_varint(std::string_view& in) {
  if (in.empty()) return std::nullopt;
  const auto first = static_cast<unsigned char>(in[0]);
  const std::size_t bytes = std::size_t{1} << (first >> 6);
  if (in.size() < bytes) return std::nullopt;
  std::uint64_t value = first & 0x3fU;
  for (std::size_t i = 1; i < bytes; ++i) value = value << 8 | static_cast<unsigned char>(in[i]);
  in.remove_prefix(bytes);
  return value;
}

// A frame of HTTP/3 (RFC 9114, 7.1): type, length, value.
std::string frame(std::uint64_t type, std::string_view value) {
  std::string made;
  put_varint(made, type);
  put_varint(made, value.size());
  return made.append(value);
}

// Browsers read the setting of the draft that they speak, and ignore the others.
std::string control_stream_start() {
  std::string settings;
  const std::pair<std::uint64_t, std::uint64_t> all[] = {
      {kQpackTableCapacity, 0},
      {kQpackBlockedStreams, 0},
      {kEnableConnectProtocol, 1},
      {kH3Datagram, 1},
      {kWebTransportDraft02, 1},
      {kWebTransportMaxSessionsDraft07, 1},
      {kWebTransportMaxSessionsDraft13, 1},
  };
  for (const auto& [id, value] : all) {
    put_varint(settings, id);
    put_varint(settings, value);
  }
  std::string made;
  put_varint(made, h3::kControlStream);
  return made + frame(h3::kSettings, settings);
}

// Two states: within the head of a record, byte by byte until both integers are complete, and
// within its value.
bool RecordReader::feed(std::string_view bytes, Sink& sink) {
  // Each turn takes a byte at least, or ends: a record with an empty value takes those of its head.
  while (!bytes.empty()) {
    if (!in_value_ && !read_head(bytes, sink)) return false;
    if (!in_value_) continue;
    const std::string_view piece = bytes.substr(0, std::min<std::uint64_t>(left_, bytes.size()));
    bytes.remove_prefix(piece.size());
    left_ -= piece.size();
    if (wanted_ == Value::whole) kept_.append(piece);
    if (wanted_ == Value::pieces && !piece.empty() && !sink.value(type_, piece)) return false;
    if (left_ > 0) continue;
    in_value_ = false;
    if (wanted_ == Value::whole && !sink.value(type_, std::exchange(kept_, {}))) return false;
  }
  return true;
}

// Takes one byte of the head. When type and length are complete the sink says what is wanted of the
// value: all of it, bounded by kMaxValueBytes, pieces, or nothing.
bool RecordReader::read_head(std::string_view& bytes, Sink& sink) {
  head_.push_back(bytes.front());
  bytes.remove_prefix(1);
  std::string_view head = head_;
  const auto type = take_varint(head);
  const auto length = type ? take_varint(head) : std::nullopt;
  if (!length) return true;
  head_.clear();
  type_ = *type;
  left_ = *length;
  wanted_ = sink.begins(type_);
  if (wanted_ == Value::whole && left_ > kMaxValueBytes) return false;
  if (left_ == 0) return wanted_ != Value::whole || sink.value(type_, {});
  in_value_ = true;
  return true;
}

// QPACK (RFC 9204) without a dynamic table, which the settings forbid: each block stands alone. The
// number of fields is bounded.
std::optional<Fields> read_header_block(std::int64_t stream_id, std::string_view block) {
  nghttp3_qpack_decoder* made_decoder = nullptr;
  if (nghttp3_qpack_decoder_new(&made_decoder, 0, 0, nghttp3_mem_default()) != 0) {
    return std::nullopt;
  }
  const Owned<nghttp3_qpack_decoder, DecoderDelete> decoder(made_decoder);
  nghttp3_qpack_stream_context* made_context = nullptr;
  if (nghttp3_qpack_stream_context_new(&made_context, stream_id, nghttp3_mem_default()) != 0) {
    return std::nullopt;
  }
  const Owned<nghttp3_qpack_stream_context, ContextDelete> context(made_context);
  Fields fields;
  const auto* at = reinterpret_cast<const std::uint8_t*>(block.data());
  std::size_t left = block.size();
  // Each call yields at most one field; the last one says so.
  for (std::size_t count = 0; count <= kMaxFields; ++count) {
    nghttp3_qpack_nv field{};
    std::uint8_t flags = 0;
    const nghttp3_ssize read = nghttp3_qpack_decoder_read_request(decoder.get(), context.get(),
                                                                  &field, &flags, at, left, 1);
    if (read < 0 || (flags & NGHTTP3_QPACK_DECODE_FLAG_BLOCKED) != 0) return std::nullopt;
    at += read;
    left -= static_cast<std::size_t>(read);
    if ((flags & NGHTTP3_QPACK_DECODE_FLAG_EMIT) != 0) {
      fields.emplace(text_of(field.name), text_of(field.value));
      nghttp3_rcbuf_decref(field.name);
      nghttp3_rcbuf_decref(field.value);
    }
    if ((flags & NGHTTP3_QPACK_DECODE_FLAG_FINAL) != 0) return fields;
    if (read == 0 && (flags & NGHTTP3_QPACK_DECODE_FLAG_EMIT) == 0) return std::nullopt;
  }
  return std::nullopt;
}

// Fields as literals and references to the static table.
std::optional<std::string> write_header_block(
    std::int64_t stream_id, const std::vector<std::pair<std::string, std::string>>& fields) {
  nghttp3_qpack_encoder* made_encoder = nullptr;
  if (nghttp3_qpack_encoder_new(&made_encoder, 0, nghttp3_mem_default()) != 0) return std::nullopt;
  const Owned<nghttp3_qpack_encoder, EncoderDelete> encoder(made_encoder);
  std::vector<nghttp3_nv> pairs;
  pairs.reserve(fields.size());
  for (const auto& [name, value] : fields) {
    // nghttp3 reads these bytes and does not write them.
    pairs.push_back({const_cast<std::uint8_t*>(reinterpret_cast<const std::uint8_t*>(name.data())),
                     const_cast<std::uint8_t*>(reinterpret_cast<const std::uint8_t*>(value.data())),
                     name.size(), value.size(), NGHTTP3_NV_FLAG_NONE});
  }
  Buffer prefix;
  Buffer block;
  Buffer instructions;  // for a dynamic table: stays empty
  const int error =
      nghttp3_qpack_encoder_encode(encoder.get(), prefix.get(), block.get(), instructions.get(),
                                   stream_id, pairs.data(), pairs.size());
  if (error != 0) return std::nullopt;
  return std::string(prefix.text()).append(block.text());
}

}  // namespace kwind::web
