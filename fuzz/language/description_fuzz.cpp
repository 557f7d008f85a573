// Any text is either a protocol, from which code can be written, or has errors that can be shown.
#include <cstdint>
#include <cstdlib>
#include <string_view>

#include "kwind/language/compile.h"
#include "kwind/language/generate_cpp.h"

extern "C" int kwind_fuzz_one(const std::uint8_t* data, std::size_t size) {
  const std::string_view text(reinterpret_cast<const char*>(data), size);
  const kwind::language::Compiled compiled = kwind::language::compile(text);
  for (const auto& error : compiled.errors) {
    if (kwind::language::render(error, compiled).empty()) std::abort();
  }
  if (compiled.ok()) {
    // The digest depends on the text alone.
    const std::uint16_t newest = compiled.protocol.version;
    const auto digest = kwind::schema::digest_of(compiled.protocol, newest);
    if (digest != kwind::schema::digest_of(kwind::language::compile(text).protocol, newest)) {
      std::abort();
    }
    if (kwind::language::generate_cpp(compiled.protocol, "fuzz.kw").empty()) std::abort();
    for (const auto& message : compiled.protocol.messages) {
      const auto bits = kwind::schema::size_of(compiled.protocol, message.fields);
      if (bits.min_bits > bits.max_bits) std::abort();
      if (bits.typical_bits < bits.min_bits || bits.typical_bits > bits.max_bits) std::abort();
      if (bits.max_bits > kwind::language::kMaxSplitBytes * 8) std::abort();
    }
  }
  return 0;
}
