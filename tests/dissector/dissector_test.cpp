// The plugin that is generated for the packet analyser, run by the analyser: what it shows of each
// message is held against the runtime codec.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cmath>
#include <cstdlib>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "cli/process.h"
#include "kit/capture_file.h"
#include "kit/descriptions.h"
#include "kit/random_description.h"
#include "kwind/language/generate_dissector.h"
#include "kwind/schema/message_type_codes.h"
#include "kwind/schema/runtime.h"
#include "link/datagram/data_header.h"
#include "link/datagram/frames.h"
#include "link/handshake/handshake.h"

namespace kwind::language {
namespace dissector_test {

namespace fs = std::filesystem;
using schema::Type;
using schema::TypeKind;
using schema::Value;

constexpr std::uint16_t kClient = 50123;

// A field as the analyser names it, and its value as text.
struct Shown {
  std::string name;
  std::string value;
  bool near = false;   // expected: four digits behind the point
  bool start = false;  // expected: more may follow
};

std::string snake(const std::string& name) {
  std::string out;
  for (std::size_t i = 0; i < name.size(); ++i) {
    const bool upper = std::isupper(static_cast<unsigned char>(name[i])) != 0;
    if (upper && i > 0 && std::islower(static_cast<unsigned char>(name[i - 1])) != 0) out += '_';
    out += static_cast<char>(std::tolower(static_cast<unsigned char>(name[i])));
  }
  return out;
}

// What must be shown of a value, in order.
class Expected {
 public:
  Expected(const schema::Protocol& protocol, std::uint16_t version)
      : protocol_(protocol), version_(version) {}

  void fields(const std::vector<schema::Field>& all, const Value& value, const std::string& path) {
    for (std::size_t i = 0; i < all.size(); ++i) {
      if (all[i].travels(version_)) one(all[i].type, value.items[i], path + "." + all[i].name);
    }
  }
  std::vector<Shown> shown;

 private:
  void add(const std::string& path, std::string value, bool near = false, bool start = false) {
    shown.push_back({path, std::move(value), near, start});
  }
  void one(const Type& type, const Value& value, const std::string& path) {
    switch (type.kind) {
      case TypeKind::boolean: return add(path, value.whole != 0 ? "1" : "0");
      case TypeKind::integer:
      case TypeKind::count:
      case TypeKind::peer: return add(path, fmt::format("{}", value.whole));
      case TypeKind::tick: return add(path, fmt::format("{}", value.whole & 0xffff));
      case TypeKind::ref: return add(path, fmt::format("{}", value.whole & 0xffffffff));
      case TypeKind::real:
      case TypeKind::f32:
      case TypeKind::f64:
      case TypeKind::angle: return add(path, fmt::format("{:.15g}", value.real));
      case TypeKind::direction2:
      case TypeKind::direction3:
      case TypeKind::rotation: {
        std::string all;
        for (const Value& part : value.items) all += fmt::format("{:.4f} ", part.real);
        return add(path, all, true);
      }
      case TypeKind::text: return add(path, value.text);
      case TypeKind::bytes:
        return add(path, to_hex(std::as_bytes(std::span(value.text)), value.text.size()));
      case TypeKind::enumeration: return add(path, option(protocol_.enums, type, value).name);
      case TypeKind::record: return fields(protocol_.records[type.index].fields, value, path);
      case TypeKind::vec:
        for (std::uint32_t i = 0; i < type.limit; ++i) {
          one(type.element.front(), value.items[i], path + "." + "xyz"[i]);
        }
        return;
      case TypeKind::list:
      case TypeKind::maybe:
        for (const Value& item : value.items) one(type.element.front(), item, path);
        return;
      case TypeKind::flags: {
        const auto& all = protocol_.flags[type.index].options;
        for (std::size_t i = 0; i < all.size(); ++i) {
          if (!all[i].life.alive(version_)) continue;
          add(path + "." + all[i].name, (value.whole >> i & 1) != 0 ? "1" : "0");
        }
        return;
      }
      case TypeKind::one_of: {
        const schema::Option& chosen = option(protocol_.one_ofs, type, value);
        add(path, chosen.name);
        if (chosen.type.empty()) return;
        return one(chosen.type.front(), value.items.front(), path + "." + chosen.name);
      }
      case TypeKind::grid: {
        add(path, fmt::format("{} x {}", type.limit, type.height), false, true);
        for (std::uint32_t y = 0; y < type.height; ++y) {
          std::string row;
          for (std::uint32_t x = 0; x < type.limit; ++x) {
            const Value& cell = value.items[std::size_t{y} * type.limit + x];
            row += schema::value_text(protocol_, type.element.front(), cell) + " ";
          }
          add(path + ".row", row);
        }
        return;
      }
    }
  }
  static const schema::Option& option(const std::vector<schema::Options>& all, const Type& type,
                                      const Value& value) {
    return all[type.index].options[static_cast<std::size_t>(value.whole)];
  }

  const schema::Protocol& protocol_;
  std::uint16_t version_;
};

// Word for word, numbers by what they are.
bool same(const Shown& wanted, const Shown& got) {
  if (wanted.name != got.name) return false;
  std::istringstream a(wanted.value);
  std::istringstream b(got.value);
  std::string left;
  std::string right;
  while (a >> left) {
    if (!(b >> right)) return false;
    char* end = nullptr;
    const double x = std::strtod(left.c_str(), &end);
    const bool number = end == left.c_str() + left.size();
    const double y = std::strtod(right.c_str(), nullptr);
    if (left != right &&
        !(number && std::abs(x - y) <= (wanted.near ? 1.1e-4 : 1e-14 * std::abs(x)))) {
      return false;
    }
  }
  return wanted.start || !(b >> right);
}

// The fields of each packet, in order, from the analyser's JSON, which repeats keys.
struct Fields : nlohmann::json_sax<nlohmann::json> {
  std::vector<std::vector<Shown>> packets;
  std::string name;
  bool key(std::string& text) override {
    name = text;
    if (text == "_index") packets.emplace_back();
    return true;
  }
  bool string(std::string& value) override {
    if (name.starts_with("kwind_")) packets.back().push_back({name, value});
    return true;
  }
  bool null() override { return true; }
  bool boolean(bool) override { return true; }
  bool number_integer(number_integer_t) override { return true; }
  bool number_unsigned(number_unsigned_t) override { return true; }
  bool number_float(number_float_t, const string_t&) override { return true; }
  bool binary(binary_t&) override { return true; }
  bool start_object(std::size_t) override { return true; }
  bool end_object() override { return true; }
  bool start_array(std::size_t) override { return true; }
  bool end_array() override { return true; }
  bool parse_error(std::size_t, const std::string&, const nlohmann::json::exception& e) override {
    ADD_FAILURE() << e.what();
    return false;
  }
};

class Dissector : public testing::Test {
 protected:
  void SetUp() override {
    std::string name = (fs::temp_directory_path() / "kwind-test-XXXXXX").string();
    ASSERT_NE(::mkdtemp(name.data()), nullptr);
    dir_ = name;
    capture_ = std::make_unique<kit::CaptureFile>(name + "/capture.pcapng");
  }
  void TearDown() override { fs::remove_all(dir_); }

  std::vector<std::vector<Shown>> show(const schema::Protocol& protocol) {
    std::ofstream(dir_ / "plugin.lua") << generate_dissector(protocol, "test.kw");
    const auto ran =
        kit::run({"/usr/bin/env", "tshark", "-X", "lua_script:" + (dir_ / "plugin.lua").string(),
                  "-r", (dir_ / "capture.pcapng").string(), "-T", "json"});
    EXPECT_EQ(ran.code, 0) << ran.err;
    EXPECT_EQ(ran.err.find("ua"), std::string::npos) << ran.err;  // Lua's or lua's complaints
    Fields fields;
    EXPECT_TRUE(nlohmann::json::sax_parse(ran.out, &fields));
    return fields.packets;
  }

  void handshake(const schema::Protocol& protocol, std::uint16_t version) {
    std::array<std::byte, 1200> memory{};
    link::Connect connect;
    connect.identity.name = protocol.name;
    connect.identity.versions = {{version, schema::digest_of(protocol, version)}};
    const Secret32 random;
    std::array<std::byte, link::kConnectPayloadBytes> said{};
    link::write(connect, said);
    link::write_connect_head({link::kLinkVersion, version, link::Mode::plaintext}, {}, memory);
    link::write_plaintext(random.bytes(), said, std::span(memory).subspan(link::kConnectHeadBytes));
    capture_->add(kClient, server_, memory);
    link::Accept accept;
    accept.welcome.emplace();
    std::array<std::byte, link::kMaxAcceptPayloadBytes> payload{};
    const auto body = std::span(payload).first(link::write(accept, payload));
    const auto datagram = std::span(memory).first(link::kAcceptHeadBytes + body.size() +
                                                  link::NoiseNk::kOverheadBytes);
    link::write_accept_head(version, memory);
    link::write_plaintext(random.bytes(), body, datagram.subspan(link::kAcceptHeadBytes));
    capture_->add(server_, kClient, datagram);
  }

  // A datagram with one message, as the link lays it out.
  void data(const schema::Protocol& protocol, const schema::MessageType& message,
            const std::vector<std::byte>& fields, std::size_t bits, std::uint16_t version,
            bool up) {
    std::vector<link::ChannelSpec> channels;
    std::size_t channel = 0;
    for (std::size_t i = 0; i < protocol.channels.size(); ++i) {
      if (!protocol.channels[i].life.alive(version)) continue;
      if (i == message.channel) channel = channels.size();
      channels.push_back({protocol.channels[i].delivery});
    }
    std::uint64_t kinds = 0;
    std::uint64_t kind = 0;
    for (const auto& other : protocol.messages) {
      const auto way = up ? schema::Direction::from_client : schema::Direction::from_server;
      if (other.channel != message.channel || !other.life.alive(version)) continue;
      if (other.direction != schema::Direction::both && other.direction != way) continue;
      if (&other == &message) kind = kinds;
      ++kinds;
    }
    std::vector<std::byte> payload(fields.size() + 8);
    bits::Writer message_out(payload);
    message_out.put(kind, bits::bits_for(kinds));
    if (message.role != schema::MessageRole::message) message_out.put(77, schema::kRequestIdBits);
    message_out.put_bits(fields, bits);
    message_out.finish();

    std::vector<std::byte> memory(payload.size() + 64);
    bits::Writer out(memory);
    link::DataHeader header;
    header.id = link::ConnectionId{0xbcd0123};
    header.number_low = 77;
    link::write(header, up, out);
    link::FrameWriter frames(out, channels, 77);
    link::Origin origin;
    switch (channels[channel].delivery) {
      case Delivery::unreliable:
        frames.unreliable(channel, payload, message_out.bit_count());
        break;
      case Delivery::sequenced:
        frames.sequenced(channel, payload, message_out.bit_count(), origin);
        break;
      case Delivery::reliable:
      case Delivery::ordered: frames.reliable(channel, 5, payload, message_out.bit_count()); break;
    }
    const std::size_t bytes = out.finish() + 4;
    capture_->add(up ? kClient : server_, up ? server_ : kClient, std::span(memory).first(bytes));
  }

  // Every message of the protocol, in every version it has, with a few made-up values.
  void hold_against_the_codec(const schema::Protocol& protocol) {
    std::vector<std::vector<Shown>> expected;
    schema::SampleNumbers numbers(11);
    for (std::uint16_t version = schema::oldest_version(protocol); version <= protocol.version;
         ++version) {
      handshake(protocol, version);
      expected.emplace_back();
      expected.emplace_back();
      for (const schema::MessageType& message : protocol.messages) {
        if (!message.life.alive(version)) continue;
        for (const auto payload : {schema::SampleSize::min, schema::SampleSize::typical,
                                   schema::SampleSize::max, schema::SampleSize::typical}) {
          const Value value = schema::sample_value(protocol, message.fields, payload, numbers);
          std::vector<std::byte> memory(std::size_t{1} << 20);
          schema::Encoder out{bits::Writer(memory), bits::Policy::clamp, version};
          schema::encode_value(protocol, message.fields, value, out);
          memory.resize(out.finish());
          if (memory.size() > 8000) continue;
          Value back;
          schema::Decoder in(bits::Reader(memory, out.bit_count()), version);
          schema::decode_value(protocol, message.fields, in, back);
          ASSERT_EQ(in.error(), Errc::none);
          data(protocol, message, memory, out.bit_count(), version,
               message.direction != schema::Direction::from_server);
          Expected wanted(protocol, version);
          wanted.fields(message.fields, back, "kwind_" + protocol.name + "." + snake(message.name));
          expected.push_back(std::move(wanted.shown));
        }
      }
    }
    compare(protocol, expected);
  }

  void compare(const schema::Protocol& protocol, const std::vector<std::vector<Shown>>& expected) {
    const auto shown = show(protocol);
    ASSERT_EQ(shown.size(), expected.size());
    std::size_t values = 0;
    for (std::size_t packet = 0; packet < shown.size(); ++packet) {
      std::vector<Shown> got;
      for (const Shown& each : shown[packet]) {
        EXPECT_NE(each.name, "kwind_" + protocol.name + ".malformed") << packet + 1;
        if (std::count(each.name.begin(), each.name.end(), '.') > 1) got.push_back(each);
      }
      ASSERT_EQ(got.size(), expected[packet].size()) << protocol.name << ", packet " << packet + 1;
      for (std::size_t i = 0; i < got.size(); ++i, ++values) {
        ASSERT_TRUE(same(expected[packet][i], got[i]))
            << protocol.name << ", packet " << packet + 1 << ": expected "
            << expected[packet][i].name << " = `" << expected[packet][i].value << "`, shown "
            << got[i].name << " = `" << got[i].value << "`";
      }
    }
    EXPECT_GT(values, 20U);
  }

  void hello() {
    std::array<std::byte, 1200> memory{};
    link::write_hello({link::kLinkVersion, 1, link::Mode::plaintext}, memory);
    capture_->add(kClient, server_, memory);
  }

  std::uint16_t server_ = 4000;  // the port that the analyser knows before it has seen a hello
  fs::path dir_;
  std::unique_ptr<kit::CaptureFile> capture_;
};

TEST_F(Dissector, ShowsTheWorld) {
  hold_against_the_codec(kit::description("world"));
}
TEST_F(Dissector, ShowsTheHails) {
  hold_against_the_codec(kit::description("hails"));
}
TEST_F(Dissector, ShowsTheManifest) {
  hold_against_the_codec(kit::description("manifest"));
}
TEST_F(Dissector, ShowsTheChart) {
  hold_against_the_codec(kit::description("chart"));
}
TEST_F(Dissector, ShowsEveryType) {
  hold_against_the_codec(kit::compiled_file(KWIND_SOURCE_DIR "/tests/schema/every_type.kw"));
}

TEST_F(Dissector, ShowsCasesOfAnyName) {
  const Compiled made = compile(
      "protocol tow 1\nchannel talk reliable\n"
      "message Hitch from client on talk {\n"
      "  line : one of { case : bool, row : text 5, x : int 0..3 }\n"
      "  more : list of one of { case : text 9, none } up to 40\n}\n");
  ASSERT_TRUE(made.ok());
  hold_against_the_codec(made.protocol);
}

TEST_F(Dissector, FindsAServerOnAnyPortByTheHello) {
  const schema::Protocol protocol = kit::description("hails");
  server_ = 5123;
  hello();
  handshake(protocol, protocol.version);
  const schema::MessageType& message = protocol.messages.front();
  data(protocol, message, {}, 0, protocol.version, true);
  const auto shown = show(protocol);
  ASSERT_EQ(shown.size(), 4U);
  const std::string form = "kwind_" + protocol.name + ".form";
  const std::array<const char*, 4> forms{"hello", "connect", "accept", "data"};
  for (std::size_t i = 0; i < forms.size(); ++i) {
    ASSERT_FALSE(shown[i].empty()) << "packet " << i + 1 << " is not taken for one of ours";
    EXPECT_EQ(shown[i].front().name, form);
    EXPECT_EQ(shown[i].front().value, forms[i]);
  }
}

class RandomDissector : public Dissector, public testing::WithParamInterface<int> {};
TEST_P(RandomDissector, ShowsWhatTheCodecWrote) {
  const std::string text =
      kit::RandomDescription(static_cast<std::uint64_t>(GetParam()), 12).text("random");
  const Compiled made = compile(text);
  ASSERT_TRUE(made.ok());
  hold_against_the_codec(made.protocol);
}
INSTANTIATE_TEST_SUITE_P(Seeds, RandomDissector, testing::Range(1, 7));

TEST_F(Dissector, SaysWhatIsMalformedAndGoesOn) {
  const schema::Protocol protocol = kit::description("hails");
  handshake(protocol, 3);
  std::array<std::byte, 300> noise{};
  schema::SampleNumbers numbers(3);
  constexpr int kPackets = 300;
  std::size_t data = 0;
  for (int i = 0; i < kPackets; ++i) {
    for (std::byte& byte : noise) byte = static_cast<std::byte>(numbers.up_to(255));
    noise[0] = static_cast<std::byte>(1 + numbers.up_to(5) + 16 * numbers.up_to(1));
    const std::size_t size = 1 + numbers.up_to(299);
    data += noise[0] == std::byte{1} || noise[0] == std::byte{17} ? 1 : 0;
    capture_->add(i % 2 == 0 ? kClient : server_, i % 2 == 0 ? server_ : kClient,
                  std::span(noise).first(size));
  }
  const auto shown = show(protocol);
  ASSERT_EQ(shown.size(), kPackets + 2U);
  std::size_t malformed = 0;
  for (const auto& packet : shown) {
    for (const Shown& each : packet) malformed += each.name.ends_with(".malformed") ? 1 : 0;
  }
  EXPECT_GT(malformed, data * 4 / 5) << "cookies and the like may hold anything, data may not";
}

}  // namespace dissector_test
}  // namespace kwind::language
