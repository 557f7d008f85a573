// Changes of columns: residuals of any length, and edits of varying values, which are read as far
// as the snapshot may edit.
#include <gtest/gtest.h>

#include <array>

#include "bay.h"
#include "kwind/schema/grid.h"
#include "replica/coding/code_tables.h"
#include "replica/coding/delta_codec.h"
#include "replica/coding/entity_model.h"
#include "soundings.h"

namespace kwind::replica {
namespace delta_codec_test {

using schema::ColumnInfo;

// A chart of 48 x 48 and 12 x 12 cells, all alike but one.
OwnRow chart_with(const EntityModel& model, std::size_t inked) {
  OwnRow row;
  row.numbers.assign(model.columns(), 0);
  row.varying.assign(model.varying(), nullptr);
  for (std::size_t c = 0; c < model.columns(); ++c) {
    const ColumnInfo& column = model.info().columns[c];
    if (column.form != schema::ColumnForm::varying) continue;
    BitString made{std::vector<std::byte>(4096), 0};
    schema::Encoder out{bits::Writer(made.bytes)};
    if (column.grid >= 0) {
      schema::encode_grid(out, model.info().grids[static_cast<std::size_t>(column.grid)],
                          [&](std::size_t cell) { return cell == inked ? 1U : 0U; });
    }
    out.finish();
    made.bits = out.bit_count();
    made.bytes.resize(bits::bytes_for(made.bits));
    row.varying[model.varying_place(c)] = std::make_shared<const BitString>(std::move(made));
  }
  return row;
}

TEST(Edits, AreReadAsFarAsTheSnapshotMayEdit) {
  const EntityModel model(bay::Chart::entity_info(), 20);
  const CodeTables tables(SymbolCounts::expected(bay::kEntities));
  std::size_t type = 0;
  while (bay::kEntities.types[type] != &bay::Chart::entity_info()) ++type;
  const CodeTables::Inside::Type& codes = tables.inside().types[type];
  const OwnRow before = chart_with(model, 5);
  const OwnRow now = chart_with(model, 9);
  const std::array<Known, 1> known{{{Tick(1), before}}};
  Basis basis{model, codes, codes.predictors, known, Tick(2), {}};
  constexpr std::size_t kCells = 48 * 48 + 12 * 12;
  EXPECT_EQ(edited_size(basis, now), kCells);
  const std::uint32_t mask = mask_of(basis, now);
  std::vector<std::byte> memory(4096);
  const auto written = [&](bool no_edits) {
    basis.no_edits = no_edits;
    bits::Writer out(memory);
    write_change(out, basis, now, mask);
    out.finish();
    return out.bit_count();
  };
  const std::size_t edit_bits = written(false);
  for (const std::size_t left : {kCells - 1, kCells, kCells + 1}) {
    std::size_t edits_left = left;
    basis.edits_left = &edits_left;
    OwnRow read;
    bits::Reader in(memory, edit_bits);
    EXPECT_EQ(read_change(in, basis, mask, read), left >= kCells) << left;
    if (left < kCells) continue;
    EXPECT_TRUE(same(Row(read), Row(now)));
    EXPECT_EQ(edits_left, left - kCells);
  }
  // Whole values are no edits.
  std::size_t none_left = 0;
  basis.edits_left = &none_left;
  OwnRow read;
  const std::size_t whole_bits = written(true);
  EXPECT_GT(whole_bits, edit_bits);
  bits::Reader in(memory, whole_bits);
  EXPECT_TRUE(read_change(in, basis, mask, read));
  EXPECT_TRUE(same(Row(read), Row(now)));
}

// Bits of a change of the one column from a value to another; it has to come back.
std::size_t bits_of_change(const EntityModel& model, const CodeTables::Inside::Type& codes,
                           std::uint32_t from, std::uint32_t to) {
  const OwnRow before{{from}, {}};
  const OwnRow now{{to}, {}};
  const std::array<Known, 1> known{{{Tick(1), before}}};
  const Basis basis{model, codes, codes.predictors, known, Tick(2), {}};
  std::array<std::byte, 16> memory{};
  bits::Writer out(memory);
  const std::uint32_t mask = mask_of(basis, now);
  write_change(out, basis, now, mask);
  out.finish();
  bits::Reader in(memory, out.bit_count());
  OwnRow read;
  EXPECT_TRUE(read_change(in, basis, mask, read)) << from << " to " << to;
  EXPECT_EQ(in.left_bits(), 0U) << from << " to " << to;
  EXPECT_TRUE(same(Row(read), Row(now))) << from << " to " << to;
  return out.bit_count();
}

TEST(Residuals, TakeTheBitsOfTheirClassOrOfTheValue) {
  const EntityModel model(soundings::Sounder::entity_info(), 20);
  // Jumping traffic often has whole values.
  for (const bool jumps : {false, true}) {
    auto counts = SymbolCounts::expected(soundings::kEntities);
    for (auto& by_age : counts.types()[0].errors[0]) {
      if (jumps) by_age.back() = 1U << 20;
    }
    const CodeTables tables(counts);
    const CodeTables::Inside::Type& codes = tables.inside().types[0];
    const PrefixCode& code = codes.errors[0][0];
    const std::size_t whole = code.symbols() - 1;
    std::vector<bool> used(whole);
    // As docs/state-format.md has it: 24 residuals, then classes of 16, 32, 64, ... of them.
    std::uint32_t place = 0;
    const auto check = [&](std::size_t symbol, unsigned extra_bits) {
      const std::int64_t size = std::int64_t{place} / 2 + 1;
      const std::int64_t residual = place % 2 == 0 ? size : -size;
      const std::size_t by_class = symbol < whole ? code.bits(symbol) + extra_bits : 1000;
      const std::size_t by_value = symbol < 24 ? 1000 : code.bits(whole) + 20;
      if (by_class <= by_value) used[symbol] = true;
      for (const std::int64_t from : {500'000 - residual, std::int64_t{500'000}}) {
        ASSERT_EQ(bits_of_change(model, codes, static_cast<std::uint32_t>(from),
                                 static_cast<std::uint32_t>(from + residual)),
                  std::min(by_class, by_value))
            << residual;
      }
    };
    for (; place < 24; ++place) ASSERT_NO_FATAL_FAILURE(check(place, 0));
    for (unsigned k = 0; k < 12; ++k) {
      const std::uint32_t end = place + (16U << k);
      for (; place < end; ++place) ASSERT_NO_FATAL_FAILURE(check(24 + k, 4 + k));
    }
    for (const std::uint32_t end = place + 1000; place < end; ++place) {
      ASSERT_NO_FATAL_FAILURE(check(whole, 0));
    }
    EXPECT_TRUE(used[24]);
    EXPECT_EQ(used[35], !jumps);
  }
}

}  // namespace delta_codec_test
}  // namespace kwind::replica
