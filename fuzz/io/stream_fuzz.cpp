// A stream cut into datagrams in partial pieces must give what it gives in one piece, and stop at
// the first length that is none.
#include <cstdint>
#include <cstdlib>
#include <vector>

#include "kwind/io/stream_deframer.h"

using kwind::io::StreamDeframer;

namespace {

constexpr std::size_t kMax = 64;

struct Cut {
  std::vector<std::vector<std::byte>> datagrams;
  bool broken = false;
  friend bool operator==(const Cut&, const Cut&) = default;
};

// What the format says, without a state.
Cut slowly(std::span<const std::byte> stream) {
  Cut cut;
  while (stream.size() >= 2) {
    const auto size =
        std::to_integer<std::size_t>(stream[0]) + 256 * std::to_integer<std::size_t>(stream[1]);
    if (size == 0 || size > kMax) {
      cut.broken = true;
      break;
    }
    if (stream.size() - 2 < size) break;
    cut.datagrams.emplace_back(stream.begin() + 2,
                               stream.begin() + 2 + static_cast<std::ptrdiff_t>(size));
    stream = stream.subspan(2 + size);
  }
  return cut;
}

}  // namespace

extern "C" int kwind_fuzz_one(const std::uint8_t* data, std::size_t size) {
  if (size < 1) return 0;
  const auto stream = std::as_bytes(std::span(data + 1, size - 1));
  StreamDeframer deframer(kMax);
  Cut cut;
  // The first byte says how large the pieces are: 1, 2, 3 ... in turn from there.
  std::size_t piece = 1 + data[0] % 40;
  for (std::size_t at = 0; at < stream.size();) {
    const std::size_t bytes = std::min(piece, stream.size() - at);
    deframer.take(stream.subspan(at, bytes));
    while (const auto datagram = deframer.next()) {
      cut.datagrams.emplace_back(datagram->begin(), datagram->end());
    }
    if (deframer.held_bytes() > kMax + StreamDeframer::kHeadBytes) std::abort();
    at += bytes;
    piece = 1 + (piece * 7 + 3) % 40;
  }
  cut.broken = deframer.error() != kwind::Errc::none;
  if (cut != slowly(stream)) std::abort();
  return 0;
}
