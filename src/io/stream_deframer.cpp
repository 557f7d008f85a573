// Length-prefixed framing: bytes are gathered until a whole datagram is there. After a length that
// is not permitted nothing more is read: the stream cannot be trusted to be in step.
#include "kwind/io/stream_deframer.h"

#include "kwind/core/assert.h"

namespace kwind::io {

void StreamDeframer::take(std::span<const std::byte> bytes) {
  if (error_ != Errc::none) return;
  bytes_.erase(bytes_.begin(), bytes_.begin() + static_cast<std::ptrdiff_t>(at_));
  at_ = 0;
  bytes_.insert(bytes_.end(), bytes.begin(), bytes.end());
}

std::optional<std::span<const std::byte>> StreamDeframer::next() {
  if (error_ != Errc::none || bytes_.size() - at_ < kHeadBytes) return std::nullopt;
  const std::size_t size = std::to_integer<std::size_t>(bytes_[at_]) |
                           std::to_integer<std::size_t>(bytes_[at_ + 1]) << 8;
  if (size == 0 || size > max_bytes_) {
    error_ = Errc::bad_stream;
    bytes_.clear();
    at_ = 0;
    return std::nullopt;
  }
  if (bytes_.size() - at_ - kHeadBytes < size) return std::nullopt;
  const auto datagram = std::span<const std::byte>(bytes_).subspan(at_ + kHeadBytes, size);
  at_ += kHeadBytes + size;
  return datagram;
}

void StreamDeframer::write_head(std::size_t bytes, std::span<std::byte, kHeadBytes> out) {
  KWIND_ASSERT(bytes > 0 && bytes < 65536);
  out[0] = static_cast<std::byte>(bytes & 0xff);
  out[1] = static_cast<std::byte>(bytes >> 8);
}

}  // namespace kwind::io
