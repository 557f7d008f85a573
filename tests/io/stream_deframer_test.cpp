// Datagrams cut out of a stream of bytes, in pieces of any size.
#include "kwind/io/stream_deframer.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <array>
#include <vector>

namespace kwind::io {
namespace stream_deframer_test {

std::vector<std::byte> bytes_of(std::size_t size, int value) {
  return std::vector<std::byte>(size, static_cast<std::byte>(value));
}

TEST(StreamDeframer, TakesAStreamInAnyPieces) {
  std::vector<std::byte> stream;
  for (std::size_t size = 1; size < 60; ++size) {
    std::array<std::byte, 2> head{};
    StreamDeframer::write_head(size, head);
    stream.insert(stream.end(), head.begin(), head.end());
    const auto body = bytes_of(size, static_cast<int>(size));
    stream.insert(stream.end(), body.begin(), body.end());
  }
  for (std::size_t piece = 1; piece < 70; ++piece) {
    StreamDeframer deframer(1472);
    std::size_t expected = 1;
    for (std::size_t at = 0; at < stream.size(); at += piece) {
      deframer.take(std::span(stream).subspan(at, std::min(piece, stream.size() - at)));
      while (const auto datagram = deframer.next()) {
        EXPECT_EQ(datagram->size(), expected);
        EXPECT_EQ(std::to_integer<std::size_t>(datagram->front()), expected);
        ++expected;
      }
    }
    EXPECT_EQ(expected, 60U);
    EXPECT_EQ(deframer.held_bytes(), 0U);
  }
}

TEST(StreamDeframer, StopsAtALengthThatIsNone) {
  for (const std::size_t length : {std::size_t{0}, std::size_t{1473}}) {
    StreamDeframer deframer(1472);
    const std::array<std::byte, 4> wrong{
        static_cast<std::byte>(length & 0xff), static_cast<std::byte>(length >> 8), {}, {}};
    deframer.take(wrong);
    EXPECT_FALSE(deframer.next());
    EXPECT_EQ(deframer.error(), Errc::bad_stream);
    deframer.take(bytes_of(100, 1));
    EXPECT_FALSE(deframer.next()) << "nothing behind it can be trusted";
    EXPECT_EQ(deframer.held_bytes(), 0U) << "nor is any of it kept";
  }
}

}  // namespace stream_deframer_test
}  // namespace kwind::io
