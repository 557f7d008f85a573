// Cuts a stream of bytes into the datagrams that it carries: each stands behind its length, two
// bytes, the low one first. Takes the stream in any partial pieces. Pure; one stream, one thread.
#pragma once
#include <cstddef>
#include <optional>
#include <span>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/core/errors.h"

namespace kwind::io {

/// Finds the datagrams in a stream of bytes.
class KWIND_API StreamDeframer {
 public:
  static constexpr std::size_t kHeadBytes = 2;

  /// Datagrams of 1 to `max_bytes` bytes.
  explicit StreamDeframer(std::size_t max_bytes) : max_bytes_(max_bytes) {}

  /// Takes the next bytes of the stream (copied). Drain next() after each call.
  void take(std::span<const std::byte> bytes);
  /// The next whole datagram: valid until the next call of take(). Nothing if more bytes are
  /// needed, or the stream is broken.
  [[nodiscard]] std::optional<std::span<const std::byte>> next();
  /// Whether next() has something to say: a whole datagram, or a length that is none.
  [[nodiscard]] bool has_next() const;
  /// bad_stream once a length was none: nothing that follows can be trusted.
  [[nodiscard]] Errc error() const { return error_; }
  /// Bytes held for a datagram that is not complete, at most kHeadBytes + max_bytes after a drain.
  [[nodiscard]] std::size_t held_bytes() const { return bytes_.size() - at_; }

  /// Writes what stands before a datagram of `bytes` bytes.
  static void write_head(std::size_t bytes, std::span<std::byte, kHeadBytes> out);

 private:
  [[nodiscard]] std::size_t next_size() const;
  std::size_t max_bytes_;
  std::vector<std::byte> bytes_;
  std::size_t at_ = 0;
  Errc error_ = Errc::none;
};

}  // namespace kwind::io
