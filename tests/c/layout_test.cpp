// C structs: values of every generated header go into a struct and come back the same, and what a
// table of offsets says wrongly is found out.
#include <cstring>
#include <memory>
#include <random>

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

// The first read is checked member by member, later ones are not: both write the same bytes.
TEST_F(Quay, StructsAreReadAsTheirValuesAre) {
  serve(50);
  kwind_client* const client = join(50);
  Value craft(protocol, "Craft");
  craft.set("master", 1);
  kwind_ref ref{};
  ASSERT_EQ(kwind_server_spawn(server, craft, &ref), KWIND_OK) << kwind_last_error();
  ASSERT_TRUE(until([&] { return count_of_entities(client) == 1; }));
  const std::uint32_t peer = last(server_events, KWIND_EVENT_CONNECTED)->event.peer;
  std::mt19937 random(1);
  const auto up_to = [&](int max) { return static_cast<int>(random() % (unsigned(max) + 1)); };
  Value seen(protocol, "Craft");
  for (int round = 0; round < 30; ++round) {
    craft.set("lit", up_to(1)).set("crew", up_to(105) - 5).set("depth", round);
    craft.set("seen", up_to(60000)).set("master", up_to(7)).set("cargo", up_to(2));
    craft.set("draught", up_to(1000) / 8.0).set("mass", up_to(1000) / 7.0).set("secret", up_to(9));
    craft.set("berth.at[0]", up_to(1000) / 16.0).set("berth.free", up_to(1));
    for (const char* path : {"bow[0]", "bow[1]", "mast[0]", "mast[1]", "mast[2]", "hull[0]",
                             "hull[1]", "hull[2]", "hull[3]"}) {
      craft.set(path, up_to(20) - 9.5);
    }
    ASSERT_EQ(kwind_value_set_ref(craft, "towed", round % 2 == 0 ? ref : kwind_ref{}), KWIND_OK);
    // Fields for the owner alone come and go.
    if (round == 10 || round == 20) {
      ASSERT_EQ(kwind_server_set_owned(server, peer, ref, round == 10 ? 1 : 0), KWIND_OK);
    }
    ASSERT_EQ(kwind_server_set(server, ref, craft), KWIND_OK) << kwind_last_error();
    ASSERT_TRUE(until([&] {
      EXPECT_EQ(kwind_client_get(client, ref, seen), KWIND_OK);
      return get_int(seen, "depth") == round;
    }));
    quay_craft checked;
    quay_craft read;
    std::memset(&checked, 0xa5, sizeof checked);
    std::memset(&read, 0xa5, sizeof read);
    ASSERT_EQ(kwind_value_to_struct(seen, &quay_craft_layout, &checked), KWIND_OK);
    ASSERT_EQ(kwind_client_get_struct(client, ref, &quay_craft_layout, &read), KWIND_OK);
    EXPECT_EQ(read.lit, checked.lit);
    EXPECT_EQ(read.crew, checked.crew);
    EXPECT_EQ(read.depth, checked.depth);
    EXPECT_EQ(read.seen, checked.seen);
    EXPECT_EQ(read.master, checked.master);
    EXPECT_EQ(read.draught, checked.draught);
    EXPECT_EQ(read.mass, checked.mass);
    EXPECT_TRUE(std::equal(std::begin(read.bow), std::end(read.bow), std::begin(checked.bow)));
    EXPECT_TRUE(std::equal(std::begin(read.mast), std::end(read.mast), std::begin(checked.mast)));
    EXPECT_TRUE(std::equal(std::begin(read.hull), std::end(read.hull), std::begin(checked.hull)));
    EXPECT_EQ(read.towed.id, checked.towed.id);
    EXPECT_EQ(read.towed.generation, checked.towed.generation);
    EXPECT_EQ(read.cargo, checked.cargo);
    EXPECT_EQ(read.berth.at[0], checked.berth.at[0]);
    EXPECT_EQ(read.berth.free, checked.berth.free);
    EXPECT_EQ(read.secret, checked.secret);
  }
}

// Tables in memory of the program may change after they were checked.
TEST_F(Quay, ALayoutThatChangedIsCheckedAnew) {
  serve(50);
  kwind_client* const client = join(50);
  Value tug(protocol, "Tug");
  kwind_ref ref{};
  ASSERT_EQ(kwind_server_spawn(server, tug.set("heading", 9.0).set("cargo", 2), &ref), KWIND_OK);
  ASSERT_TRUE(until([&] { return count_of_entities(client) == 1; }));
  std::vector<kwind_member> members(quay_tug_members,
                                    quay_tug_members + quay_tug_layout.member_count);
  kwind_member axis = *members[0].inner;
  members[0].inner = &axis;
  kwind_layout layout = quay_tug_layout;
  layout.members = members.data();
  quay_tug out{};
  const auto read = [&] { return kwind_client_get_struct(client, ref, &layout, &out); };
  ASSERT_EQ(read(), KWIND_OK) << kwind_last_error();
  ASSERT_EQ(read(), KWIND_OK) << kwind_last_error();
  EXPECT_EQ(out.heading, 9.0);
  members[1].kind = KWIND_MEMBER_TEXT;
  EXPECT_EQ(read(), KWIND_E_LAYOUT);
  members[1].kind = KWIND_MEMBER_REAL;
  axis.kind = KWIND_MEMBER_BOOL;
  EXPECT_EQ(read(), KWIND_E_LAYOUT);
  axis.kind = KWIND_MEMBER_REAL;
  members[1].offset = 0xfffffff0;
  EXPECT_EQ(read(), KWIND_E_LAYOUT);
  // Headings to where fuel was, and fuel to where headings were.
  members[1].offset = offsetof(quay_tug, fuel);
  members[3].offset = offsetof(quay_tug, heading);
  ASSERT_EQ(read(), KWIND_OK) << kwind_last_error();
  EXPECT_EQ(out.fuel, 9.0);
  ASSERT_EQ(read(), KWIND_OK) << kwind_last_error();
  EXPECT_EQ(out.fuel, 9.0);
  layout.struct_size = 20;
  EXPECT_EQ(read(), KWIND_E_LAYOUT);
  layout.struct_size = sizeof(quay_tug);
  EXPECT_EQ(kwind_client_get_struct(client, ref, &layout, nullptr), KWIND_E_ARGUMENT);
  EXPECT_EQ(kwind_client_get_struct(client, ref, nullptr, &out), KWIND_E_ARGUMENT);
}

}  // namespace layout_test
}  // namespace kwind::c_test
