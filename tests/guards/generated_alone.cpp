// Generated code needs schema and bits, never the language: this program links without it.
#include "every_type.h"

int main() {
  std::array<std::byte, 64> memory{};
  every_type::Spot spot{1, 2};
  kwind::schema::Encoder out{kwind::bits::Writer(memory)};
  encode(out, spot);
  out.finish();
  return out.error() == kwind::Errc::none && out.bit_count() == 30 ? 0 : 1;
}
