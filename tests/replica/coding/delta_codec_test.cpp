// Edits of varying values in a snapshot: read as far as the snapshot may edit.
#include <gtest/gtest.h>

#include <array>

#include "bay.h"
#include "kwind/schema/grid.h"
#include "replica/coding/code_tables.h"
#include "replica/coding/delta_codec.h"
#include "replica/coding/entity_model.h"

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

}  // namespace delta_codec_test
}  // namespace kwind::replica
