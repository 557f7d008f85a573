// Whatever decodes is in range and encodes to the very bits it came from. The first byte picks the
// kind.
#include <array>
#include <cstdint>
#include <cstdlib>
#include <span>

#include "every_type.h"

namespace {

template <class T>
void check(std::span<const std::byte> memory) {
  for (const std::size_t spare : {0U, 1U, 3U, 7U}) {
    if (memory.size() * 8 < spare) return;
    const std::size_t bits = memory.size() * 8 - spare;
    T message;
    if (kwind::schema::decode_message(memory, bits, message) != kwind::Errc::none) continue;
    std::array<std::byte, 1200> again{};
    const auto encoded = kwind::schema::encode_message(message, again, kwind::bits::Policy::refuse);
    if (!encoded || encoded->bits != bits) std::abort();
    kwind::bits::Reader a(memory, bits);
    kwind::bits::Reader b(again, bits);
    while (a.left_bits() > 0) {
      if (a.get(1) != b.get(1)) std::abort();
    }
  }
}

}  // namespace

extern "C" int kwind_fuzz_one(const std::uint8_t* data, std::size_t size) {
  if (size == 0) return 0;
  using namespace every_type;
  const auto memory = std::as_bytes(std::span(data + 1, size - 1));
  switch (data[0] % 8) {
    case 0: check<Flags>(memory); break;
    case 1: check<Whole>(memory); break;
    case 2: check<Parts>(memory); break;
    case 3: check<Turned>(memory); break;
    case 4: check<Words>(memory); break;
    case 5: check<Chosen>(memory); break;
    case 6: check<Nested>(memory); break;
    default: check<Nothing>(memory); break;
  }
  return 0;
}
