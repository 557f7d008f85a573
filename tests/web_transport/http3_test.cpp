// Variable-length integers, records in pieces, header blocks.
#include "web_transport/http3.h"

#include <gtest/gtest.h>

#include <random>

namespace kwind::web {
namespace http3_test {

TEST(Varint, TakesOneTwoFourOrEightBytes) {
  // RFC 9000, A.1.
  std::string made;
  put_varint(made, 151288809941952652U);
  put_varint(made, 494878333U);
  put_varint(made, 15293U);
  put_varint(made, 37U);
  EXPECT_EQ(made, std::string("\xc2\x19\x7c\x5e\xff\x14\xe8\x8c\x9d\x7f\x3e\x7d\x7b\xbd\x25"));
  std::string_view in = made;
  EXPECT_EQ(take_varint(in), 151288809941952652U);
  EXPECT_EQ(take_varint(in), 494878333U);
  EXPECT_EQ(take_varint(in), 15293U);
  EXPECT_EQ(take_varint(in), 37U);
  EXPECT_FALSE(take_varint(in));
  for (std::size_t cut = 0; cut < 8; ++cut) {
    std::string_view part = std::string_view(made).substr(0, cut);
    EXPECT_FALSE(take_varint(part));
    EXPECT_EQ(part.size(), cut) << "nothing is taken from a part";
  }
  for (const std::uint64_t edge :
       {0ULL, 63ULL, 64ULL, 16383ULL, 16384ULL, (1ULL << 30) - 1, 1ULL << 30, (1ULL << 62) - 1}) {
    std::string text;
    put_varint(text, edge);
    std::string_view left = text;
    EXPECT_EQ(take_varint(left), edge);
    EXPECT_TRUE(left.empty());
  }
}

// Writes down what it is given. Type 1 is wanted whole, type 0 in pieces.
class Notes final : public RecordReader::Sink {
 public:
  RecordReader::Value begins(std::uint64_t type) override {
    if (type == 1) return RecordReader::Value::whole;
    if (type == 0) text += "[";
    return type == 0 ? RecordReader::Value::pieces : RecordReader::Value::skipped;
  }
  bool value(std::uint64_t type, std::string_view bytes) override {
    text += type == 1 ? "(" + std::string(bytes) + ")" : std::string(bytes);
    return bytes != "stop";
  }
  std::string text;
};

TEST(RecordReader, ReadsTheSameWhereverTheStreamIsCut) {
  const std::string stream = frame(1, "head") + frame(0x21, std::string(20000, 'x')) +
                             frame(0, "data") + frame(1, "") + frame(0, "") + frame(1, "more") +
                             frame(0x1234567890, "unknown") + frame(0, std::string(9000, 'y'));
  std::string expected;
  {
    RecordReader reader;
    Notes notes;
    ASSERT_TRUE(reader.feed(stream, notes));
    expected = notes.text;
  }
  EXPECT_EQ(expected, "(head)[data()[(more)[" + std::string(9000, 'y'));
  std::mt19937 random(5);
  for (std::size_t round = 0; round < 200; ++round) {
    RecordReader reader;
    Notes notes;
    std::string_view left = stream;
    while (!left.empty()) {
      const std::size_t piece = std::min<std::size_t>(left.size(), 1 + random() % (round + 1));
      ASSERT_TRUE(reader.feed(left.substr(0, piece), notes));
      left.remove_prefix(piece);
    }
    ASSERT_EQ(notes.text, expected) << round;
  }
}

TEST(RecordReader, RefusesAWholeValueThatIsTooLongBeforeItComes) {
  RecordReader reader;
  Notes notes;
  std::string head;
  put_varint(head, 1);
  put_varint(head, RecordReader::kMaxValueBytes + 1);
  EXPECT_FALSE(reader.feed(head, notes));
  RecordReader at_limit;
  EXPECT_TRUE(at_limit.feed(frame(1, std::string(RecordReader::kMaxValueBytes, 'z')), notes));
  RecordReader stopped;
  EXPECT_FALSE(stopped.feed(frame(1, "stop") + frame(1, "never"), notes));
  EXPECT_EQ(notes.text.find("never"), std::string::npos);
}

TEST(HeaderBlock, ComesBackAsItWas) {
  const auto block = write_header_block(
      0, {{":method", "CONNECT"}, {":path", "/kwind?a=b"}, {"origin", "https://harbour.example"}});
  ASSERT_TRUE(block);
  const auto fields = read_header_block(0, *block);
  ASSERT_TRUE(fields);
  EXPECT_EQ(fields->size(), 3U);
  EXPECT_EQ(fields->at(":path"), "/kwind?a=b");
  EXPECT_EQ(fields->at("origin"), "https://harbour.example");
}

TEST(HeaderBlock, CutOrWithAHundredFieldsIsRefused) {
  std::vector<std::pair<std::string, std::string>> many;
  for (int i = 0; i < 100; ++i) many.emplace_back("name" + std::to_string(i), "value");
  EXPECT_FALSE(read_header_block(0, *write_header_block(0, many)));
  many.resize(64);
  EXPECT_TRUE(read_header_block(0, *write_header_block(0, many)));
  const auto block = write_header_block(0, {{":method", "CONNECT"}, {"other", "value"}});
  for (std::size_t cut = 0; cut < block->size(); ++cut) {
    const auto fields = read_header_block(0, block->substr(0, cut));
    EXPECT_TRUE(!fields || fields->size() < 2) << cut;
  }
  // A reference into a dynamic table, which nobody has.
  EXPECT_FALSE(read_header_block(0, std::string("\x02\x00\x80", 3)));
}

}  // namespace http3_test
}  // namespace kwind::web
