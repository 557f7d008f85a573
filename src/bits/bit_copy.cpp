// Runs of bits between byte buffers that are not aligned to each other.
#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"

namespace kwind::bits {

void Writer::put_bits(std::span<const std::byte> source, std::size_t bits) {
  KWIND_ASSERT(bits <= source.size() * 8);
  if (bits > room_bits()) {
    failed_ = true;
    return;
  }
  Reader in(source, bits);
  for (; bits >= 64; bits -= 64) put(in.get(64), 64);
  put(in.get(static_cast<unsigned>(bits)), static_cast<unsigned>(bits));
}

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
