// Any bits, decoded from the description alone: whatever decodes encodes to the same bits, and
// explain() says the same as decoding. The first byte picks description and body, the second a
// version.
#include <array>
#include <cstdint>
#include <cstdlib>
#include <fstream>
#include <iterator>
#include <span>

#include "kwind/json/json.h"
#include "kwind/language/compile.h"
#include "kwind/schema/runtime.h"

namespace {

using namespace kwind;

struct Body {
  const schema::Protocol* protocol;
  const std::vector<schema::Field>* fields;
};

std::optional<std::string> read(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  if (!in) return std::nullopt;
  return std::string(std::istreambuf_iterator<char>(in), {});
}

const std::vector<Body>& bodies() {
  static std::vector<schema::Protocol> protocols;
  static const std::vector<Body> made = [] {
    for (const char* name : {"chart", "hails", "manifest", "world"}) {
      const std::string path =
          std::string(KWIND_SOURCE_DIR "/examples/descriptions/") + name + ".kw";
      auto compiled = language::compile(read(path).value_or(""), path, read);
      if (!compiled.ok()) std::abort();
      protocols.push_back(std::move(compiled.protocol));
    }
    std::vector<Body> all;
    for (const auto& protocol : protocols) {
      for (const auto& message : protocol.messages) all.push_back({&protocol, &message.fields});
      for (const auto& entity : protocol.entities) all.push_back({&protocol, &entity.fields});
    }
    return all;
  }();
  return made;
}

}  // namespace

extern "C" int kwind_fuzz_one(const std::uint8_t* data, std::size_t size) {
  if (size < 2) return 0;
  const Body& body = bodies()[data[0] % bodies().size()];
  const auto version = static_cast<std::uint16_t>(1 + data[1] % body.protocol->version);
  const auto memory = std::as_bytes(std::span(data + 2, size - 2));
  for (const std::size_t spare : {0U, 1U, 3U, 7U}) {
    if (memory.size() * 8 < spare) return 0;
    const std::size_t bits = memory.size() * 8 - spare;
    schema::Decoder in(bits::Reader(memory, bits), version);
    schema::Value value;
    schema::decode_value(*body.protocol, *body.fields, in, value);
    const bool accepted = in.error() == Errc::none && in.left_bits() == 0;
    const auto explained =
        schema::explain(*body.protocol, *body.fields, memory, bits, {version, 0});
    if ((explained.error == Errc::none) != accepted) std::abort();
    std::size_t at = 0;
    for (const auto& span : explained.spans) {
      if (span.first_bit != at) std::abort();
      at += span.bits;
    }
    if (at != bits) std::abort();
    if (!accepted) continue;
    static std::vector<std::byte> again(std::size_t{1} << 20);
    schema::Encoder out(bits::Writer(again), bits::Policy::refuse, version);
    schema::encode_value(*body.protocol, *body.fields, value, out);
    out.finish();
    if (out.error() != Errc::none || out.bit_count() != bits) std::abort();
    bits::Reader a(memory, bits);
    bits::Reader b(again, bits);
    while (a.left_bits() > 0) {
      if (a.get(1) != b.get(1)) std::abort();
    }
    if (json::to_json(*body.protocol, *body.fields, value).empty() && !body.fields->empty()) {
      std::abort();
    }
  }
  return 0;
}
