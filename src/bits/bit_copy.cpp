// Runs of bits between byte buffers that are not aligned to each other.
#include <bit>
#include <cstring>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"

namespace kwind::bits {

// Whole words where source and target are at byte bounds, else shifted.
void Writer::put_bits(std::span<const std::byte> source, std::size_t bits) {
  KWIND_ASSERT(bits <= source.size() * 8);
  if (bits > room_bits()) {
    failed_ = true;
    return;
  }
  // Whole words go by copies of what the loop needs: the bytes stored could be this writer's own,
  // as far as the compiler knows, and it would load everything again for each.
  const std::size_t words = bits / 64;
  Writer out = *this;
  for (std::size_t i = 0; i < words; ++i) {
    std::uint64_t word = 0;
    std::memcpy(&word, source.data() + i * 8, 8);
    if constexpr (std::endian::native == std::endian::big) word = swapped_bytes(word);
    out.store(out.accumulator_ | word << out.fill_, 8);
    out.next_ += 8;
    out.accumulator_ = (word >> 1) >> (63 - out.fill_);
  }
  out.room_bits_ -= words * 64;
  *this = out;
  const auto rest = static_cast<unsigned>(bits % 64);
  if (rest > 0) put(Reader(source.subspan(words * 8), rest).get(rest), rest);
}

// The reverse; the rest of the last byte is zeros.
bool Reader::get_bits(std::span<std::byte> target, std::size_t bits) {
  KWIND_ASSERT(bits <= target.size() * 8);
  if (bits > left_bits_) {
    set_failed();
    return false;
  }
  Writer out(target);
  for (; bits >= 64; bits -= 64) out.put(get(64), 64);
  out.put(get(static_cast<unsigned>(bits)), static_cast<unsigned>(bits));
  out.finish();
  return true;
}

}  // namespace kwind::bits
