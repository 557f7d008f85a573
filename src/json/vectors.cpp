// Test vectors: values made up from a fixed seed, in every version, with their bits in hexadecimal.
// Another implementation is right when it makes the same bits and reads the same values.
#include "kwind/json/vectors.h"

#include <fmt/format.h>

#include "kwind/core/digest.h"
#include "kwind/json/text.h"
#include "kwind/schema/runtime.h"
#include "kwind/schema/sample.h"

namespace kwind::json {
namespace {

using nlohmann::ordered_json;
using schema::SampleSize;

constexpr std::size_t kMaxBytes = 600;

struct Body {
  std::string_view name;
  const std::vector<schema::Field>* fields;
  schema::Life life;
};

// Everything that has fields: messages with answers, entities.
std::vector<Body> bodies_of(const schema::Protocol& protocol) {
  std::vector<Body> all;
  for (const auto& message : protocol.messages) {
    all.push_back({message.name, &message.fields, message.life});
  }
  for (const auto& entity : protocol.entities) {
    all.push_back({entity.name, &entity.fields, entity.life});
  }
  return all;
}

// The bits of a value in one version.
std::size_t encode(const schema::Protocol& protocol, const Body& body, const schema::Value& value,
                   std::uint16_t version, std::span<std::byte> memory) {
  schema::Encoder out(bits::Writer(memory), bits::Policy::refuse, version);
  schema::encode_value(protocol, *body.fields, value, out);
  out.finish();
  return out.error() == Errc::none ? out.bit_count() : 0;
}

// What a decoder of that version gives.
schema::Value decode(const schema::Protocol& protocol, const Body& body,
                     std::span<const std::byte> memory, std::size_t bits, std::uint16_t version) {
  schema::Decoder in(bits::Reader(memory, bits), version);
  schema::Value value;
  schema::decode_value(protocol, *body.fields, in, value);
  return value;
}

std::vector<std::byte>& scratch() {
  static thread_local std::vector<std::byte> memory(std::size_t{1} << 21);
  return memory;
}

}  // namespace

// Random values of each type in each version, with their bits: for implementations in other
// languages.
std::string test_vectors(const schema::Protocol& protocol) {
  ordered_json out{{"protocol", protocol.name},
                   {"versions", ordered_json::array()},
                   {"vectors", ordered_json::array()}};
  for (std::uint16_t v = schema::oldest_version(protocol); v <= protocol.version; ++v) {
    out["versions"].push_back(
        {{"version", v}, {"digest", to_hex(schema::digest_of(protocol, v), 16)}});
  }
  schema::SampleNumbers numbers(1);
  for (const Body& body : bodies_of(protocol)) {
    for (std::uint16_t v = schema::oldest_version(protocol); v <= protocol.version; ++v) {
      if (!body.life.alive(v)) continue;
      for (const SampleSize payload :
           {SampleSize::min, SampleSize::typical, SampleSize::typical, SampleSize::max}) {
        const auto value = schema::sample_value(protocol, *body.fields, payload, numbers);
        const std::size_t bits = encode(protocol, body, value, v, scratch());
        if (bits::bytes_for(bits) > kMaxBytes) continue;
        out["vectors"].push_back({{"message", body.name},
                                  {"version", v},
                                  {"bits", bits},
                                  {"hex", to_hex(scratch(), bits::bytes_for(bits))},
                                  {"value", to_json(protocol, *body.fields,
                                                    decode(protocol, body, scratch(), bits, v))}});
      }
    }
  }
  // One vector a line: a change shows as one line in a diff.
  std::string text =
      fmt::format("{{\n\"protocol\": {},\n\"versions\": [\n", text_of(out["protocol"]));
  const auto lines = [&](const ordered_json& all) {
    for (std::size_t i = 0; i < all.size(); ++i) {
      text += text_of(all[i]) + (i + 1 < all.size() ? ",\n" : "\n");
    }
  };
  lines(out["versions"]);
  text += "],\n\"vectors\": [\n";
  lines(out["vectors"]);
  return text + "]\n}\n";
}

// Reads vectors back, encodes the values, and compares the bits.
std::vector<Problem> check_vectors(const schema::Protocol& protocol, std::string_view text) {
  std::vector<Problem> problems;
  const auto parsed = parse_text(text);
  const ordered_json json = parsed ? *parsed : ordered_json();
  if (!json.is_object() || !json.contains("vectors") || !json["vectors"].is_array()) {
    return {"this is no file of test vectors"};
  }
  const auto bodies = bodies_of(protocol);
  for (std::size_t i = 0; i < json["vectors"].size(); ++i) {
    const ordered_json& vector = json["vectors"][i];
    const auto wrong = [&](std::string_view what) {
      problems.push_back(fmt::format("vector {}: {}", i, what));
    };
    const std::string name = vector.value("message", "");
    const auto version = vector.value("version", std::uint16_t{0});
    const auto body =
        std::find_if(bodies.begin(), bodies.end(), [&](const Body& b) { return b.name == name; });
    if (body == bodies.end()) {
      wrong("there is no such message");
      continue;
    }
    const auto value = from_json(protocol, *body->fields, vector["value"]);
    if (!value) {
      wrong(value.error());
      continue;
    }
    const std::size_t bits = encode(protocol, *body, *value, version, scratch());
    if (bits != vector.value("bits", std::size_t{0}) ||
        to_hex(scratch(), bits::bytes_for(bits)) != vector.value("hex", "")) {
      wrong(name + " encodes to other bits");
    } else if (decode(protocol, *body, scratch(), bits, version) != *value) {
      wrong(name + " decodes to another value");
    }
  }
  return problems;
}

}  // namespace kwind::json
