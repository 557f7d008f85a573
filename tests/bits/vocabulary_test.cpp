// The shared vocabulary: the error list, endpoints, digests.
#include <gtest/gtest.h>

#include <cstdlib>
#include <fstream>
#include <iterator>
#include <set>
#include <sstream>

#include "kwind/core/digest.h"
#include "kwind/core/endpoint.h"
#include "kwind/core/errors.h"

namespace kwind {
namespace vocabulary_test {

std::string_view name_of(Verdict verdict) {
  switch (verdict) {
    case Verdict::drop: return "dropped and counted";
    case Verdict::close: return "closes the connection";
    case Verdict::refuse: return "refuses the connection";
    case Verdict::report: return "returned to the caller";
  }
  return "";
}

std::string errors_page() {
  std::ostringstream out;
  out << "# Errors\n\nGenerated from the list in `include/kwind/core/errors.h`: run the test "
         "`Errors.PageIsUpToDate` with `KWIND_REWRITE=1`.\nNumbers travel in refusals and never "
         "change.\n\n| number | name | meaning | what happens |\n|---|---|---|---|\n";
  for (const ErrorInfo& info : kErrorList) {
    out << "| " << static_cast<int>(info.code) << " | `" << info.name << "` | " << info.text
        << " | " << name_of(info.verdict) << " |\n";
  }
  return out.str();
}

TEST(Errors, PageIsUpToDate) {
  const std::string file = KWIND_SOURCE_DIR "/docs/errors.md";
  if (std::getenv("KWIND_REWRITE") != nullptr) std::ofstream(file) << errors_page();
  std::ifstream in(file);
  EXPECT_EQ(std::string(std::istreambuf_iterator<char>(in), {}), errors_page());
}

TEST(Errors, HaveNumbersOfTheirOwnThatTheWireCanName) {
  std::set<int> numbers;
  for (const ErrorInfo& info : kErrorList) {
    EXPECT_TRUE(numbers.insert(static_cast<int>(info.code)).second) << info.name;
    EXPECT_EQ(error_from_number(static_cast<std::uint64_t>(info.code), Errc::none), info.code);
    EXPECT_LT(static_cast<std::size_t>(info.code), kErrorCount) << "a counter has no place for it";
  }
  CauseCounts counts;
  for (const ErrorInfo& info : kErrorList) counts.add(info.code, 2);
  for (const ErrorInfo& info : kErrorList) EXPECT_EQ(counts.of(info.code), 2U) << info.name;
  EXPECT_EQ(error_from_number(999, Errc::closed_by_peer), Errc::closed_by_peer);
}

TEST(Endpoint, ParsesWhatItPrints) {
  for (const char* text : {"127.0.0.1:4000", "0.0.0.0:0", "255.255.255.255:65535"}) {
    const auto endpoint = Endpoint::parse(text);
    ASSERT_TRUE(endpoint) << text;
    EXPECT_EQ(endpoint->text(), text);
  }
}

TEST(Endpoint, RefusesWhatIsNoAddress) {
  for (const char* text :
       {"", "127.0.0.1", "127.0.0.1:", "127.0.0:4000", "256.0.0.1:1", "1.2.3.4:65536", "1.2.3.4:5x",
        "a.b.c.d:1", "1.2.3.4.5:1", " 1.2.3.4:5", "1.2.3.-4:5"}) {
    EXPECT_FALSE(Endpoint::parse(text)) << text;
  }
}

TEST(Endpoint, KnowsLoopback) {
  EXPECT_TRUE(Endpoint::v4(127, 3, 2, 1, 9).is_loopback());
  EXPECT_FALSE(Endpoint::v4(10, 0, 0, 1, 9).is_loopback());
  Endpoint six;
  six.ip[15] = 1;
  EXPECT_TRUE(six.is_loopback());
  six.ip[0] = 1;
  EXPECT_FALSE(six.is_loopback());
}

TEST(Digest, MatchesTheReferenceOfBlake2b) {
  // `printf abc | b2sum -l 128`
  EXPECT_EQ(to_hex(blake2b_128("abc"), 16), "cf4ab791c62b8d2b2109c90275287816");
}

TEST(Digest, KeyedCheckDependsOnKeyDataAndExtra) {
  const std::array<std::byte, 3> data{std::byte{1}, std::byte{2}, std::byte{3}};
  Key128 key{};
  const std::uint32_t check = keyed_check(key, data, 7);
  EXPECT_EQ(check, keyed_check(key, data, 7));
  EXPECT_NE(check, keyed_check(key, data, 8));
  EXPECT_NE(check, keyed_check(key, std::span(data).first(2), 7));
  key[0] = std::byte{1};
  EXPECT_NE(check, keyed_check(key, data, 7));
}

}  // namespace vocabulary_test
}  // namespace kwind
