// Values by path: every kind of field is written and read back; what does not fit is said.
#include <cmath>

#include "c/kit.h"

namespace kwind::c_test {
namespace value_test {

class ValuePaths : public ::testing::Test {
 protected:
  ~ValuePaths() override { kwind_protocol_free(protocol); }
  kwind_protocol* protocol = compile("tests/c/quay.kw");
  Value hail{protocol, "Hail"};
};

TEST_F(ValuePaths, ProtocolTellsItsNameAndVersion) {
  EXPECT_STREQ(kwind_protocol_name(protocol), "quay");
  EXPECT_EQ(kwind_protocol_version(protocol), 1U);
  EXPECT_STREQ(kwind_value_type(hail), "Hail");
}

TEST_F(ValuePaths, EachKindOfFieldIsReadAsItWasWritten) {
  hail.set("words", std::string("fog")).set("cargo", 2);
  EXPECT_EQ(get_text(hail, "words"), "fog");
  const char* name = nullptr;
  ASSERT_EQ(kwind_value_get_name(hail, "cargo", &name), KWIND_OK);
  EXPECT_STREQ(name, "timber");
  ASSERT_EQ(kwind_value_set_name(hail, "cargo", "salt"), KWIND_OK);
  EXPECT_EQ(get_int(hail, "cargo"), 1);

  ASSERT_EQ(kwind_value_set_count(hail, "marks", 3), KWIND_OK);
  hail.set("marks[2].name", std::string("pier head")).set("marks[2].at[1]", -7.5);
  EXPECT_EQ(get_text(hail, "marks[2].name"), "pier head");
  EXPECT_EQ(get_real(hail, "marks[2].at[1]"), -7.5);
  EXPECT_EQ(get_text(hail, "marks[0].name"), "");
  std::size_t count = 0;
  ASSERT_EQ(kwind_value_get_count(hail, "marks", &count), KWIND_OK);
  EXPECT_EQ(count, 3U);
  ASSERT_EQ(kwind_value_get_count(hail, "marks[0].at", &count), KWIND_OK);
  EXPECT_EQ(count, 2U);
}

TEST_F(ValuePaths, MaybeIsPassedWithoutAWordOfItsOwn) {
  EXPECT_EQ(kwind_value_set_real(hail, "depth", 3), KWIND_E_NAME);
  EXPECT_NE(std::string(kwind_last_error()).find("set its count to 1"), std::string::npos);
  ASSERT_EQ(kwind_value_set_count(hail, "depth", 1), KWIND_OK);
  hail.set("depth", 3.5);
  EXPECT_EQ(get_real(hail, "depth"), 3.5);
  EXPECT_EQ(kwind_value_set_count(hail, "depth", 2), KWIND_E_TOO_MANY);
  ASSERT_EQ(kwind_value_set_count(hail, "depth", 0), KWIND_OK);
  EXPECT_EQ(kwind_value_set_real(hail, "depth", 3), KWIND_E_NAME);
}

TEST_F(ValuePaths, CaseIsChosenByNameAndReachedByIt) {
  const char* name = nullptr;
  ASSERT_EQ(kwind_value_get_name(hail, "tide", &name), KWIND_OK);
  EXPECT_STREQ(name, "slack");
  EXPECT_EQ(kwind_value_set_real(hail, "tide.rising", 1), KWIND_E_NAME);
  EXPECT_NE(std::string(kwind_last_error()).find("the case is `slack`"), std::string::npos);
  ASSERT_EQ(kwind_value_set_name(hail, "tide", "named"), KWIND_OK);
  hail.set("tide.named.at[0]", 12.0);
  EXPECT_EQ(get_real(hail, "tide.named.at[0]"), 12);
  // Choosing it again begins anew.
  ASSERT_EQ(kwind_value_set_name(hail, "tide", "named"), KWIND_OK);
  EXPECT_EQ(get_real(hail, "tide.named.at[0]"), 0);
}

TEST_F(ValuePaths, WrongPathsAndTypesAreNamed) {
  struct Wrong {
    const char* path;
    const char* says;
  };
  ASSERT_EQ(kwind_value_set_count(hail, "marks", 1), KWIND_OK);
  for (const Wrong& each : {
           Wrong{"", "Hail has no field ``"},
           {"wrods", "Hail has no field `wrods`"},
           {"marks[1].name", "there are 1 items"},
           {"marks[", "an index is"},
           {"marks[x]", "an index is"},
           {"marks[-1]", "an index is"},
           {"marks[99999999999999999999]", "an index is"},
           {"marks[0]name", "a `.` or `[` is wanted here"},
           {"marks[0].depth", "Mark has no field `depth`"},
           {"marks[0].at[2]", "there are 2 items"},
           {"marks[0].at[1][0]", "this has no items"},
           {"words[0]", "this has no items"},
           {"words.size", "only records and cases have names"},
           {"marks.", "only records and cases have names"},
       }) {
    std::int64_t out = 0;
    EXPECT_EQ(kwind_value_get_int(hail, each.path, &out), KWIND_E_NAME) << each.path;
    EXPECT_NE(std::string(kwind_last_error()).find(each.says), std::string::npos)
        << each.path << ": " << kwind_last_error();
  }
  EXPECT_EQ(kwind_value_set_int(hail, "words", 1), KWIND_E_TYPE);
  EXPECT_STREQ(kwind_last_error(), "`words` is of type text 60");
  EXPECT_EQ(kwind_value_set_real(hail, "cargo", 1), KWIND_E_TYPE);
  EXPECT_EQ(kwind_value_set_text(hail, "cargo", "x", 1), KWIND_E_TYPE);
  EXPECT_EQ(kwind_value_set_int(hail, "cargo", 3), KWIND_E_ARGUMENT);
  EXPECT_EQ(kwind_value_set_int(hail, "cargo", -1), KWIND_E_ARGUMENT);
  EXPECT_EQ(kwind_value_set_name(hail, "cargo", "gold"), KWIND_E_NAME);
  EXPECT_EQ(kwind_value_set_count(hail, "marks", 5), KWIND_E_TOO_MANY);
  EXPECT_EQ(kwind_value_set_count(hail, "words", 1), KWIND_E_TYPE);
}

TEST_F(ValuePaths, RefsAndResetAndUnknownTypes) {
  Value tow(protocol, "Tow");
  ASSERT_EQ(kwind_value_set_ref(tow, "tug", {7, 3}), KWIND_OK);
  kwind_ref out{};
  ASSERT_EQ(kwind_value_get_ref(tow, "tug", &out), KWIND_OK);
  EXPECT_EQ(out.id, 7U);
  EXPECT_EQ(out.generation, 3U);
  ASSERT_EQ(kwind_value_reset(tow), KWIND_OK);
  ASSERT_EQ(kwind_value_get_ref(tow, "tug", &out), KWIND_OK);
  EXPECT_EQ(out.id, 0U);
  kwind_value* made = nullptr;
  EXPECT_EQ(kwind_value_new(protocol, "Submarine", &made), KWIND_E_NAME);
  EXPECT_EQ(made, nullptr);
}

TEST(Description, ErrorsComeWithTheirPlaces) {
  const kwind_source source{"wrong.kw",
                            "protocol wrong 1\nchannel c ordered\nmessage A from x on c { }\n"};
  kwind_protocol* made = nullptr;
  EXPECT_EQ(kwind_protocol_compile(&source, 1, &made), KWIND_E_DESCRIPTION);
  EXPECT_NE(std::string(kwind_last_error()).find("wrong.kw:3:"), std::string::npos)
      << kwind_last_error();
  EXPECT_EQ(made, nullptr);
}

TEST(Description, IncludesAreFoundAmongTheSources) {
  const kwind_source sources[] = {{"main.kw",
                                   "protocol main 1\ninclude \"marks.kw\"\nchannel c ordered\n"
                                   "message A from server on c { at : Metres }\n"},
                                  {"marks.kw", "quantity Metres = real 0..10 step 1\n"}};
  kwind_protocol* made = nullptr;
  ASSERT_EQ(kwind_protocol_compile(sources, 2, &made), KWIND_OK) << kwind_last_error();
  kwind_protocol_free(made);
  EXPECT_EQ(kwind_protocol_compile(sources, 1, &made), KWIND_E_DESCRIPTION);
}

}  // namespace value_test
}  // namespace kwind::c_test
