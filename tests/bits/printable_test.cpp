// Text that a peer chose: what of it reaches a terminal.
#include "kwind/core/printable.h"

#include <gtest/gtest.h>

namespace kwind {
namespace printable_test {

constexpr std::string_view kReplacement = "\xef\xbf\xbd";

TEST(Printable, KeepsWhatShows) {
  for (const std::string_view text :
       {"", "ahoy there", "h\xc3\xa4 gr\xc3\xbc\xc3\x9f", "\xe6\xb8\xaf", "\xf0\x9f\x9a\xa2"}) {
    EXPECT_EQ(printable(text), text);
  }
}

TEST(Printable, ReplacesEachCharacterThatMovesText) {
  // Escape, line feed, NUL, DEL, C1's control sequence introducer, right-to-left override, a mark.
  for (const std::string_view text :
       {std::string_view("\x1b"), std::string_view("\n"), std::string_view("\0", 1),
        std::string_view("\x7f"), std::string_view("\xc2\x9b"), std::string_view("\xe2\x80\xae"),
        std::string_view("\xef\xbb\xbf")}) {
    EXPECT_EQ(printable("a" + std::string(text) + "b"), "a" + std::string(kReplacement) + "b");
  }
}

// RFC 3629: overlong forms, surrogates, beyond Unicode, cut, stray bytes.
TEST(Printable, ReplacesEachByteThatIsNoUtf8) {
  const auto replaced = [](std::string_view text) {
    const std::string made = printable(text);
    std::size_t count = 0;
    for (std::size_t at = 0; (at = made.find(kReplacement, at)) != std::string::npos; at += 3)
      ++count;
    return count * kReplacement.size() == made.size() ? count : 0;
  };
  EXPECT_EQ(replaced("\xff"), 1U);
  EXPECT_EQ(replaced("\x80\xbf"), 2U);
  EXPECT_EQ(replaced("\xc0\xaf"), 2U);
  EXPECT_EQ(replaced("\xe0\x80\xaf"), 3U);
  EXPECT_EQ(replaced("\xed\xa0\x80"), 3U);
  EXPECT_EQ(replaced("\xf4\x90\x80\x80"), 4U);
  EXPECT_EQ(replaced("\xf0\x9f\x9a"), 3U);
  for (unsigned byte = 0; byte < 256; ++byte) {
    const std::string one(1, static_cast<char>(byte));
    EXPECT_EQ(printable(one), byte >= 0x20 && byte < 0x7f ? one : std::string(kReplacement));
  }
}

TEST(Utf8Prefix, EndsWithAWholeCharacter) {
  constexpr std::string_view kText = "a\xc3\xa4\xe6\xb8\xaf\xf0\x9f\x9a\xa2";  // 1, 2, 3, 4 bytes
  for (std::size_t limit = 0; limit <= kText.size() + 2; ++limit) {
    const std::size_t whole = limit >= 10  ? 10
                              : limit >= 6 ? 6
                              : limit >= 3 ? 3
                              : limit >= 1 ? 1
                                           : 0;
    EXPECT_EQ(valid_utf8_prefix(kText, limit), whole) << limit;
  }
  EXPECT_EQ(valid_utf8_prefix("ab\xff"
                              "cd",
                              5),
            2U)
      << "what follows a wrong byte is no start";
}

}  // namespace printable_test
}  // namespace kwind
