// Generated code against the runtime codec: the same bits in every version, both ways.
#pragma once
#include <gtest/gtest.h>

#include <span>
#include <string>
#include <vector>

#include "kit/descriptions.h"
#include "kit/sweep.h"
#include "kwind/schema/runtime.h"
#include "kwind/schema/sample.h"

namespace kwind {

// One generated message type behind functions: what compares is compiled once, not for each type.
struct GeneratedMessage {
  virtual ~GeneratedMessage() = default;
  virtual const schema::MessageInfo& info() const = 0;
  // Into a value that was just made, and into one that held what earlier rounds left.
  virtual Errc decode_fresh(std::span<const std::byte> from, std::size_t bits,
                            std::uint16_t version) = 0;
  virtual Errc decode_reused(std::span<const std::byte> from, std::size_t bits,
                             std::uint16_t version) = 0;
  virtual bool fresh_equals_reused() const = 0;
  virtual tl::expected<schema::Encoded, Errc> encode_fresh(std::span<std::byte> into,
                                                           std::uint16_t version) const = 0;
};

template <class T>
class GeneratedMessageOf final : public GeneratedMessage {
 public:
  const schema::MessageInfo& info() const override { return T::info(); }
  Errc decode_fresh(std::span<const std::byte> from, std::size_t bits,
                    std::uint16_t version) override {
    fresh_ = T{};
    return decode(from, bits, fresh_, version);
  }
  Errc decode_reused(std::span<const std::byte> from, std::size_t bits,
                     std::uint16_t version) override {
    return decode(from, bits, reused_, version);
  }
  bool fresh_equals_reused() const override { return fresh_ == reused_; }
  tl::expected<schema::Encoded, Errc> encode_fresh(std::span<std::byte> into,
                                                   std::uint16_t version) const override {
    return schema::encode_message(fresh_, into, bits::Policy::refuse, version);
  }

 private:
  static Errc decode(std::span<const std::byte> from, std::size_t bits, T& into,
                     std::uint16_t version) {
    return schema::decode_message(from, bits, into, {version, 0});
  }

  T fresh_;
  T reused_;
};

class Comparison {
 public:
  explicit Comparison(const std::string& path)
      : protocol_(kit::compiled_file(KWIND_SOURCE_DIR + path)), numbers_(7) {}

  const schema::Protocol& protocol() const { return protocol_; }

  void message(GeneratedMessage& generated) {
    const schema::MessageType& type = protocol_.messages[generated.info().type];
    SCOPED_TRACE(type.name);
    ASSERT_EQ(type.name, generated.info().name);
    const auto rounds = kit::sweep_size(60, 2000);
    for (std::uint64_t round = 0; round < rounds; ++round) {
      const auto payload = round % 8 == 0   ? schema::SampleSize::max
                           : round % 8 == 1 ? schema::SampleSize::min
                                            : schema::SampleSize::any;
      const schema::Value value = schema::sample_value(protocol_, type.fields, payload, numbers_);
      for (std::uint16_t version = 1; version <= protocol_.version; ++version) {
        both_ways(type, value, version, generated);
        if (testing::Test::HasFatalFailure()) return;
      }
    }
  }

 private:
  void both_ways(const schema::MessageType& type, const schema::Value& value, std::uint16_t version,
                 GeneratedMessage& generated) {
    schema::Encoder out(bits::Writer(memory_), bits::Policy::refuse, version);
    schema::encode_value(protocol_, type.fields, value, out);
    out.finish();
    ASSERT_EQ(out.error(), Errc::none);
    const std::size_t bits = out.bit_count();
    ASSERT_EQ(generated.decode_fresh(memory_, bits, version), Errc::none);
    ASSERT_EQ(generated.decode_reused(memory_, bits, version), Errc::none);
    ASSERT_TRUE(generated.fresh_equals_reused())
        << "storage that held something else changes nothing";
    const auto again = generated.encode_fresh(again_, version);
    ASSERT_TRUE(again);
    ASSERT_EQ(again->bits, bits) << "version " << version;
    ASSERT_TRUE(std::equal(memory_.begin(),
                           memory_.begin() + static_cast<std::ptrdiff_t>(bits::bytes_for(bits)),
                           again_.begin()));
    if (bits == 0) return;
    // One bit off: both take it, to the same value, or neither does.
    const std::size_t bit = numbers_.up_to(bits - 1);
    memory_[bit / 8] ^= std::byte{1} << (bit % 8);
    schema::Decoder in(bits::Reader(memory_, bits), version);
    schema::Value got;
    schema::decode_value(protocol_, type.fields, in, got);
    const bool accepted = in.error() == Errc::none && in.left_bits() == 0;
    ASSERT_EQ(generated.decode_fresh(memory_, bits, version) == Errc::none, accepted);
  }

  schema::Protocol protocol_;
  schema::SampleNumbers numbers_;
  std::vector<std::byte> memory_ = std::vector<std::byte>(std::size_t{1} << 20);
  std::vector<std::byte> again_ = std::vector<std::byte>(std::size_t{1} << 20);
};

template <class Visit>
void compare(const std::string& path, const schema::ProtocolInfo& info, const Visit& visit) {
  Comparison comparison(path);
  visit([&]<class Message>(const Message&) {
    GeneratedMessageOf<Message> generated;
    comparison.message(generated);
  });
  const schema::Protocol& protocol = comparison.protocol();
  ASSERT_EQ(info.messages.size(), protocol.messages.size());
  ASSERT_EQ(info.version, protocol.version);
  for (const schema::VersionInfo& entry : info.versions) {
    EXPECT_EQ(entry.digest, schema::digest_of(protocol, entry.version));
  }
  for (std::size_t i = 0; i < protocol.messages.size(); ++i) {
    const schema::Size size = schema::size_in_any_version(protocol, protocol.messages[i].fields);
    EXPECT_EQ(info.messages[i].max_bits, size.max_bits) << info.messages[i].name;
    EXPECT_EQ(info.messages[i].life, protocol.messages[i].life);
  }
}

#define KWIND_COMPARE(space, path) \
  compare(path, space::kProtocol, [](const auto& visit) { space::visit_messages(visit); })

}  // namespace kwind
