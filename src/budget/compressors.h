// What people compress text with: zlib's deflate (RFC 1951) and zstd (RFC 8878), at their usual
// levels, piece by piece. Sizes only. One object, one thread.
#pragma once
#include <cstdint>
#include <memory>
#include <string_view>

namespace kwind::budget {

/// Counts what each piece takes once it is compressed and flushed, so that the receiver can read it
/// at once.
class Compressor {
 public:
  virtual ~Compressor() = default;
  /// Bytes on the wire for the next piece.
  virtual std::size_t add(std::string_view piece) = 0;
};

enum class Memory : std::uint8_t {
  none,    ///< each piece alone: what may get lost can carry nothing else
  stream,  ///< each piece refers to those before it: only for a stream that loses nothing
};

std::unique_ptr<Compressor> make_deflate(Memory memory);
std::unique_ptr<Compressor> make_zstd(Memory memory);

}  // namespace kwind::budget
