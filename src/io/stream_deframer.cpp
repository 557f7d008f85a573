// Length-prefixed framing: bytes are gathered until a whole datagram is there. After a length that
// is not permitted nothing more is read: the stream cannot be trusted to be in step.
#include "kwind/io/stream_deframer.h"

#include "kwind/core/assert.h"

namespace kwind::io {

// Bytes that were handed out leave the front of the buffer only here: spans stay valid between
// calls.
void StreamDeframer::take(std::span<const std::byte> bytes) {
  if (error_ != Errc::none) return;
  bytes_.erase(bytes_.begin(), bytes_.begin() + static_cast<std::ptrdiff_t>(at_));
  at_ = 0;
  bytes_.insert(bytes_.end(), bytes.begin(), bytes.end());
}

// Requires: the head is there.
std::size_t StreamDeframer::next_size() const {
  return std::to_integer<std::size_t>(bytes_[at_]) | std::to_integer<std::size_t>(bytes_[at_ + 1])
                                                         << 8;
}

// A length that is not permitted counts as "something to hand out": next() then notes the error.
bool StreamDeframer::has_next() const {
  if (error_ != Errc::none || held_bytes() < kHeadBytes) return false;
  const std::size_t size = next_size();
  return size == 0 || size > max_bytes_ || held_bytes() - kHeadBytes >= size;
}

// The span is valid until the next take().
std::optional<std::span<const std::byte>> StreamDeframer::next() {
  if (!has_next()) return std::nullopt;
  const std::size_t size = next_size();
  if (size == 0 || size > max_bytes_) {
    error_ = Errc::bad_stream;
    bytes_.clear();
    at_ = 0;
    return std::nullopt;
  }
  const auto datagram = std::span<const std::byte>(bytes_).subspan(at_ + kHeadBytes, size);
  at_ += kHeadBytes + size;
  return datagram;
}

// Little-endian, 16 bits (docs/wire-format.md, "Over a stream").
void StreamDeframer::write_head(std::size_t bytes, std::span<std::byte, kHeadBytes> out) {
  KWIND_ASSERT(bytes > 0 && bytes < 65536);
  out[0] = static_cast<std::byte>(bytes & 0xff);
  out[1] = static_cast<std::byte>(bytes >> 8);
}

}  // namespace kwind::io
