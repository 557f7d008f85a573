// C structs: values of every generated header go into a struct and come back the same, and what a
// table of offsets says wrongly is found out.
#include <cstring>
#include <memory>

#include "c/kit.h"
#include "c/value.h"
#include "chart_c.h"
#include "every_type_c.h"
#include "hails_c.h"
#include "kwind/language/compile.h"
#include "kwind/schema/sample.h"
#include "manifest_c.h"
#include "quay_c.h"
#include "size_c.h"
#include "world_c.h"

namespace kwind::c_test {
namespace layout_test {

using c::from_struct;
using c::ProtocolObject;
using c::to_struct;

// Values of all sizes, to a struct and back.
void round_trip(const kwind_source* sources, std::size_t count, const kwind_layout& layout) {
  kwind_protocol* handle = nullptr;
  ASSERT_EQ(kwind_protocol_compile(sources, count, &handle), KWIND_OK) << kwind_last_error();
  {
    const c::Held<ProtocolObject> protocol(handle);
    ASSERT_TRUE(protocol);
    const auto type = c::find_type(protocol->protocol, layout.type);
    ASSERT_TRUE(type) << layout.type;
    schema::SampleNumbers numbers(7);
    for (int round = 0; round < 40; ++round) {
      const auto size = round == 0   ? schema::SampleSize::min
                        : round == 1 ? schema::SampleSize::max
                        : round < 6  ? schema::SampleSize::typical
                                     : schema::SampleSize::any;
      const schema::Value value =
          schema::sample_value(protocol->protocol, *type->fields, size, numbers);
      std::vector<std::byte> memory(layout.struct_size + 16, std::byte{0xab});
      ASSERT_EQ(to_struct(protocol->protocol, *type, value, &layout, memory.data()), KWIND_OK)
          << layout.type << ": " << kwind_last_error();
      for (std::size_t i = layout.struct_size; i < memory.size(); ++i) {
        ASSERT_EQ(memory[i], std::byte{0xab}) << layout.type << " wrote beyond its struct";
      }
      schema::Value back = schema::initial_value(protocol->protocol, *type->fields);
      ASSERT_EQ(from_struct(protocol->protocol, *type, &layout, memory.data(), back), KWIND_OK)
          << layout.type << ": " << kwind_last_error();
      EXPECT_EQ(back, value) << layout.type;
    }
  }
  kwind_protocol_free(handle);
}

TEST(Layouts, ValuesOfAllDescriptionsComeBackTheSame) {
  round_trip(manifest_sources, MANIFEST_SOURCE_COUNT, manifest_manifest_layout);
  round_trip(manifest_sources, MANIFEST_SOURCE_COUNT, manifest_glance_layout);
  round_trip(manifest_sources, MANIFEST_SOURCE_COUNT, manifest_hold_layout);
  round_trip(hails_sources, HAILS_SOURCE_COUNT, hails_ask_berth_layout);
  round_trip(world_sources, WORLD_SOURCE_COUNT, world_tug_layout);
  round_trip(world_sources, WORLD_SOURCE_COUNT, world_helm_layout);
  for (const kwind_layout* const layout :
       {&every_type_chosen_layout, &every_type_flags_layout, &every_type_load_layout,
        &every_type_nested_layout, &every_type_nothing_layout, &every_type_parts_layout,
        &every_type_turned_layout, &every_type_whole_layout, &every_type_words_layout}) {
    round_trip(every_type_sources, EVERY_TYPE_SOURCE_COUNT, *layout);
  }
  round_trip(quay_sources, QUAY_SOURCE_COUNT, quay_hail_layout);
  round_trip(quay_sources, QUAY_SOURCE_COUNT, quay_tug_layout);
}

TEST(Layouts, NamesThatComeToTheSameInCAreToldApart) {
  for (const kwind_layout* const layout :
       {&size__t_layout, &size__foo_layout, &size__foo_layout__layout, &size__foo_members__layout,
        &size__foo_a_list_layout, &size__sources__layout, &size__text_0__layout}) {
    round_trip(size__sources, SIZE__SOURCE_COUNT, *layout);
  }
  EXPECT_EQ(SIZE__CARGO_KIND_SALT, 0);
  EXPECT_EQ(SIZE__CARGO_ROPE, 1);
  EXPECT_EQ(SIZE__CARGO_KIND_SALT_, 0);
  EXPECT_EQ(SIZE__CARGO_KIND_FISH, 1);
  EXPECT_EQ(SIZE__KINDS_A_B, 1U);
  EXPECT_EQ(SIZE__KINDS_A_X, 2U);
}

TEST(Layouts, StructIsFilledFieldByField) {
  kwind_protocol* protocol = nullptr;
  ASSERT_EQ(kwind_protocol_compile(quay_sources, QUAY_SOURCE_COUNT, &protocol), KWIND_OK);
  quay_hail hail{};
  std::strcpy(hail.words.bytes, "fog");
  hail.words.size = 3;
  hail.cargo = QUAY_CARGO_TIMBER;
  hail.marks.count = 2;
  hail.marks.items[1].at[0] = 4.5;
  hail.depth.present = 1;
  hail.depth.value = 2.5;
  hail.tide.which = QUAY_HAIL_TIDE_RISING;
  hail.tide.as.rising = 1.5;
  Value value(protocol, "Hail");
  ASSERT_EQ(kwind_value_from_struct(value, &quay_hail_layout, &hail), KWIND_OK)
      << kwind_last_error();
  EXPECT_EQ(get_text(value, "words"), "fog");
  EXPECT_EQ(get_real(value, "marks[1].at[0]"), 4.5);
  EXPECT_EQ(get_real(value, "depth"), 2.5);
  EXPECT_EQ(get_real(value, "tide.rising"), 1.5);
  quay_hail back{};
  ASSERT_EQ(kwind_value_to_struct(value, &quay_hail_layout, &back), KWIND_OK);
  EXPECT_STREQ(back.words.bytes, "fog");
  EXPECT_EQ(back.marks.count, 2U);
  EXPECT_EQ(back.tide.as.rising, 1.5);

  // A struct that says more than it can hold changes nothing.
  hail.marks.count = 5;
  EXPECT_EQ(kwind_value_from_struct(value, &quay_hail_layout, &hail), KWIND_E_ARGUMENT);
  EXPECT_STREQ(kwind_last_error(), "member `marks` has 5, at most 4 are permitted");
  hail.marks.count = 0;
  hail.words.size = 61;
  EXPECT_EQ(kwind_value_from_struct(value, &quay_hail_layout, &hail), KWIND_E_ARGUMENT);
  hail.words.size = 0;
  hail.tide.which = 9;
  EXPECT_EQ(kwind_value_from_struct(value, &quay_hail_layout, &hail), KWIND_E_ARGUMENT);
  hail.tide.which = 0;
  hail.cargo = -1;
  EXPECT_EQ(kwind_value_from_struct(value, &quay_hail_layout, &hail), KWIND_E_ARGUMENT);
  EXPECT_EQ(get_text(value, "words"), "fog");
  kwind_protocol_free(protocol);
}

TEST(Layouts, WrongTablesAreFoundOut) {
  kwind_protocol* protocol = nullptr;
  ASSERT_EQ(kwind_protocol_compile(quay_sources, QUAY_SOURCE_COUNT, &protocol), KWIND_OK);
  Value tug(protocol, "Tug");
  quay_tug out{};
  const auto wrong =
      [&](const std::function<void(kwind_layout&, std::vector<kwind_member>&)>& spoil) {
        std::vector<kwind_member> members(quay_tug_members,
                                          quay_tug_members + quay_tug_layout.member_count);
        kwind_layout layout = quay_tug_layout;
        spoil(layout, members);
        layout.members = members.data();
        EXPECT_EQ(kwind_value_to_struct(tug, &layout, &out), KWIND_E_LAYOUT);
        EXPECT_EQ(kwind_value_from_struct(tug, &layout, &out), KWIND_E_LAYOUT);
        EXPECT_STRNE(kwind_last_error(), "");
      };
  wrong([](auto& layout, auto&) { layout.version = 2; });
  wrong([](auto& layout, auto&) { layout.type = "Buoy"; });
  wrong([](auto& layout, auto&) { layout.type = nullptr; });
  wrong([](auto& layout, auto&) { layout.member_count = 3; });
  wrong([](auto& layout, auto&) { layout.struct_size = 20; });
  wrong([](auto&, auto& members) { members[1].offset = 0xfffffff0; });
  wrong([](auto&, auto& members) { members[1].kind = KWIND_MEMBER_TEXT; });
  wrong([](auto&, auto& members) { members[1].name = "course"; });
  wrong([](auto&, auto& members) { members[0].limit = 3; });
  wrong([](auto&, auto& members) { members[0].inner = nullptr; });
  wrong([](auto&, auto& members) { members[0].stride = 0x7fffffff; });
  EXPECT_EQ(kwind_value_to_struct(tug, &quay_buoy_layout, &out), KWIND_E_LAYOUT);
  EXPECT_EQ(kwind_value_to_struct(tug, nullptr, &out), KWIND_E_ARGUMENT);
  EXPECT_EQ(kwind_value_to_struct(tug, &quay_tug_layout, nullptr), KWIND_E_ARGUMENT);
  kwind_protocol_free(protocol);
}

TEST_F(Quay, StructsOfEntitiesAreReadWithoutAValue) {
  serve(50);
  kwind_client* const client = join(50);
  Value tug(protocol, "Tug");
  kwind_ref ref{};
  ASSERT_EQ(kwind_server_spawn(server, tug.set("at[0]", 7.5).set("cargo", 1), &ref), KWIND_OK);
  ASSERT_TRUE(until([&] { return count_of_entities(client) == 1; }));
  quay_tug seen{};
  ASSERT_EQ(kwind_client_get_struct(client, ref, &quay_tug_layout, &seen), KWIND_OK)
      << kwind_last_error();
  EXPECT_EQ(seen.at[0], 7.5);
  EXPECT_EQ(seen.cargo, QUAY_CARGO_SALT);
  double shown = 0;
  ASSERT_EQ(kwind_client_tick(client, nullptr, &shown), KWIND_OK);
  seen = {};
  ASSERT_EQ(kwind_client_sample_struct(client, ref, shown, &quay_tug_layout, &seen), KWIND_OK);
  EXPECT_EQ(seen.at[0], 7.5);
  EXPECT_EQ(kwind_client_get_struct(client, ref, &quay_buoy_layout, &seen), KWIND_E_LAYOUT);
}

}  // namespace layout_test
}  // namespace kwind::c_test
