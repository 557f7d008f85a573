// Laws of the pieces of state coding: edits of lists, rotations and directions, predictors, tables.
#include <gtest/gtest.h>

#include <array>
#include <cmath>
#include <random>

#include "bay.h"
#include "kwind/bits/unit_vectors.h"
#include "kwind/schema/grid.h"
#include "replica/coding/code_tables.h"
#include "replica/coding/delta_codec.h"
#include "replica/coding/entity_model.h"
#include "replica/coding/list_delta.h"
#include "replica/coding/unit_columns.h"

namespace kwind::replica {
namespace coding_test {

using schema::ColumnInfo;

const schema::EntityInfo& kite() {
  return bay::Kite::entity_info();
}
std::size_t column_of(const schema::EntityInfo& info, std::string_view field) {
  std::size_t c = 0;
  while (info.fields[info.columns[c].field].name != field) ++c;
  return c;
}

// ---- edits of varying values ----

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
  const std::array<Known, 1> known{{{1, before}}};
  Basis basis{model, codes, codes.predictors, known, 2, {}};
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

// ---- lists and texts ----

BitString list_of(const ColumnInfo& column, const std::vector<unsigned>& items) {
  BitString made{std::vector<std::byte>(4096), 0};
  bits::Writer out(made.bytes);
  out.put(items.size(), bits::bits_for(std::uint64_t{column.max_items} + 1));
  for (const unsigned item : items) {
    out.put(item, std::min(column.item_bits, 64U));
    if (column.item_bits > 64) out.put(item, column.item_bits - 64);
  }
  made.bits = out.bit_count();
  made.bytes.resize(out.finish());
  return made;
}
ColumnInfo list_column(std::uint32_t max_items, std::uint32_t item_bits) {
  ColumnInfo column{};
  column.form = schema::ColumnForm::varying;
  column.max_items = max_items;
  column.item_bits = item_bits;
  column.last = 32 + max_items * item_bits;
  return column;
}
void expect_back(const ColumnInfo& column, const BitString& before, const BitString& now) {
  const BitString change = list_change(column, before, now, 100000);
  if (before == now) return;
  ASSERT_GT(change.bits, 0U);
  bits::Reader in(change.bytes, change.bits);
  const SharedBits read = read_list_change(in, column, before);
  ASSERT_NE(read, nullptr);
  EXPECT_EQ(in.left_bits(), 0U);
  EXPECT_EQ(*read, now);
}

TEST(ListDelta, GivesBackEveryListFromEveryOther) {
  std::mt19937_64 random(1);
  for (const auto& [max, bits] : {std::pair(5U, 3U), {20U, 1U}, {70U, 8U}, {200U, 90U}}) {
    const ColumnInfo column = list_column(max, bits);
    for (int i = 0; i < 400; ++i) {
      std::vector<unsigned> items;
      for (std::size_t left = random() % (max + 1); left > 0; --left) {
        items.push_back(random() % 2 + 0U);
      }
      std::vector<unsigned> other = items;
      for (std::size_t edits = random() % 6; edits > 0; --edits) {
        const auto place = static_cast<std::ptrdiff_t>(random() % (other.size() + 1));
        const bool end = place == static_cast<std::ptrdiff_t>(other.size());
        const std::uint64_t what = random() % 3;
        if (what == 0 && other.size() < max) {
          other.insert(other.begin() + place, random() % 2 + 0U);
        } else if (what == 1 && !end) {
          other.erase(other.begin() + place);
        } else if (!end) {
          other[static_cast<std::size_t>(place)] ^= 1U;
        }
      }
      if (random() % 20 == 0) other.clear();
      expect_back(column, list_of(column, items), list_of(column, other));
      if (HasFailure()) return;
    }
  }
}

TEST(ListDelta, OneItemInsertedInFrontTakesLittleMoreThanItself) {
  const ColumnInfo column = list_column(60, 8);
  std::vector<unsigned> items(50);
  for (unsigned i = 0; i < 50; ++i) items[i] = 100 + i;
  std::vector<unsigned> more = items;
  more.insert(more.begin(), 7);
  EXPECT_LE(list_change(column, list_of(column, items), list_of(column, more), 1000).bits, 16U);
  more.erase(more.begin() + 20);
  EXPECT_LE(list_change(column, list_of(column, items), list_of(column, more), 1000).bits, 32U);
}

TEST(ListDelta, ValuesWithoutItemsKeepBeginningAndEnd) {
  ColumnInfo column = list_column(0, 0);
  column.last = 5000;
  std::mt19937_64 random(2);
  for (int i = 0; i < 300; ++i) {
    BitString before{std::vector<std::byte>(100), random() % 801};
    before.bytes.resize(bits::bytes_for(before.bits));
    bits::Writer fill(before.bytes);
    for (std::size_t b = 0; b < before.bits; ++b) fill.put_bool(random() % 2 == 0);
    fill.finish();
    BitString now = before;
    if (now.bits > 0) now.bytes[random() % now.bytes.size()] ^= std::byte{1};
    expect_back(column, before, now);
    if (HasFailure()) return;
  }
}

// Whatever the bits are: nothing, or a list within its limits.
TEST(ListDelta, RandomBitsMakeNoListBeyondItsLimits) {
  std::mt19937_64 random(3);
  const ColumnInfo list = list_column(12, 5);
  ColumnInfo other = list_column(0, 0);
  other.last = 90;
  const BitString before = list_of(list, {1, 2, 3, 4, 5, 6, 7, 8});
  std::size_t read_any = 0;
  for (int i = 0; i < 20000; ++i) {
    std::array<std::byte, 24> bytes{};
    for (std::byte& each : bytes) each = static_cast<std::byte>(random());
    for (const ColumnInfo& column : {list, other}) {
      bits::Reader in(bytes, random() % 193);
      const SharedBits read = read_list_change(in, column, before);
      if (read == nullptr) continue;
      ++read_any;
      EXPECT_LE(read->bits, column.last);
      EXPECT_EQ(read->bytes.size(), bits::bytes_for(read->bits));
      if (&column == &list) {
        bits::Reader length(read->bytes, read->bits);
        EXPECT_LE(length.get(4), 12U);
      }
    }
  }
  EXPECT_GT(read_any, 100U);
}

// ---- rotations and directions ----

ColumnInfo group_column(schema::ColumnGroup group, std::uint32_t half, std::uint8_t place) {
  ColumnInfo column{};
  column.form = schema::ColumnForm::number;
  column.last = 2 * half;
  column.bits = static_cast<std::uint8_t>(bits::bits_for(2 * half + 1U));
  column.group = group;
  column.group_place = place;
  return column;
}

TEST(UnitColumns, EveryIndexComesBack) {
  constexpr std::uint32_t kHalf = 2;
  for (const auto group : {schema::ColumnGroup::rotation, schema::ColumnGroup::direction3}) {
    std::vector<ColumnInfo> columns;
    for (std::uint8_t i = 0; i < columns_of(group); ++i) {
      columns.push_back(group_column(group, kHalf, i));
    }
    const std::uint64_t side = 2 * kHalf + 1;
    const bool rotation = group == schema::ColumnGroup::rotation;
    const std::uint64_t count = rotation ? 4 * side * side * side : side * side;
    const unsigned width = bits::bits_for(count);
    for (std::uint64_t index = 0; index < count; ++index) {
      std::array<std::byte, 16> memory{};
      bits::Writer out(memory);
      out.put(index, width);
      out.finish();
      bits::Reader in(memory, width);
      std::array<std::uint32_t, 4> numbers{};
      read_unit(in, columns.data(), numbers.data());
      EXPECT_LT(numbers[0], rotation ? 4U : side);
      std::array<std::byte, 16> again{};
      bits::Writer back(again);
      write_unit(back, columns.data(), numbers.data());
      back.finish();
      EXPECT_EQ(again, memory) << index;
      EXPECT_EQ(back.bit_count(), width);
    }
  }
}

// The columns of a rotation on the grid.
std::array<std::uint32_t, 4> numbers_of(const bits::RotationGrid& grid, double angle) {
  const double axis[] = {0.48, 0.6, 0.64};
  const double s = std::sin(angle / 2);
  std::uint64_t index =
      grid.index_of(std::cos(angle / 2), s * axis[0], s * axis[1], s * axis[2]).index;
  std::array<std::uint32_t, 4> numbers{};
  for (std::size_t i = 3; i > 0; --i, index /= grid.side()) {
    numbers[i] = static_cast<std::uint32_t>(index % grid.side());
  }
  numbers[0] = static_cast<std::uint32_t>(index);
  return numbers;
}

// All the way round, over every change of the largest component.
TEST(UnitColumns, ASteadySpinIsPredictedToAFewSteps) {
  for (const double within : {0.05, 0.5, 2.0}) {
    const bits::RotationGrid grid = bits::RotationGrid::within(within);
    const auto last = static_cast<std::uint32_t>(grid.side() - 1);
    std::size_t changes = 0;
    for (double angle = 0; angle < 13; angle += 0.01) {
      constexpr double kSpin = 0.05;  // radians a tick
      const auto oldest = numbers_of(grid, angle);
      const auto newest = numbers_of(grid, angle + 4 * kSpin);
      const auto now = numbers_of(grid, angle + 7 * kSpin);
      changes += now[0] != newest[0] ? 1 : 0;
      const auto predicted = predict_rotation({newest.data(), oldest.data(), 4, 3}, now[0], last);
      for (std::size_t i = 0; i < 3; ++i) {
        const auto off = std::abs(std::int64_t{predicted[i]} - std::int64_t{now[i + 1]});
        // A tenth of the way that it turned, and rounding.
        EXPECT_LE(off, 3 + grid.half * 3 * kSpin / 10)
            << "within " << within << ", angle " << angle;
      }
      // Held: the same, or what another largest component makes of it.
      const auto held = predict_rotation({newest.data(), nullptr, 0, 3}, newest[0], last);
      EXPECT_EQ(held, (std::array{newest[1], newest[2], newest[3]}));
      if (HasFailure()) return;
    }
    EXPECT_GT(changes, 20U);
  }
}

TEST(UnitColumns, PredictionsStayOnTheGridWhateverTheStatesAre) {
  std::mt19937_64 random(4);
  for (const std::uint32_t half : {1U, 2U, 100U, 1U << 19}) {
    for (int i = 0; i < 20000; ++i) {
      std::array<std::uint32_t, 4> a{};
      std::array<std::uint32_t, 4> b{};
      for (std::size_t k = 1; k < 4; ++k) {
        a[k] = static_cast<std::uint32_t>(random() % (2 * half + 1));
        b[k] = static_cast<std::uint32_t>(random() % (2 * half + 1));
      }
      a[0] = random() % 4;
      b[0] = random() % 4;
      const auto span = static_cast<std::uint32_t>(1 + random() % 40);
      const UnitStates states{a.data(), b.data(), span, static_cast<std::uint32_t>(random() % 41)};
      for (const std::uint32_t each : predict_rotation(states, random() % 4, 2 * half)) {
        ASSERT_LE(each, 2 * half);
      }
      a[0] = a[3];
      b[0] = b[3];
      for (const std::uint32_t each : predict_direction(states, 2 * half)) {
        ASSERT_LE(each, 2 * half);
      }
    }
  }
}

TEST(UnitColumns, ADirectionThatTurnsSteadilyIsPredicted) {
  const bits::DirectionGrid grid = bits::DirectionGrid::within(0.5);
  const auto last = static_cast<std::uint32_t>(grid.side() - 1);
  const auto numbers = [&](double angle) {
    const std::uint64_t index = grid.index_of(std::cos(angle), 0.3, std::sin(angle)).index;
    return std::array{static_cast<std::uint32_t>(index / grid.side()),
                      static_cast<std::uint32_t>(index % grid.side())};
  };
  double sum = 0;
  double held = 0;
  for (double angle = 0; angle < 6.2; angle += 0.01) {
    const auto oldest = numbers(angle);
    const auto newest = numbers(angle + 0.1);
    const auto now = numbers(angle + 0.2);
    const auto predicted = predict_direction({newest.data(), oldest.data(), 4, 4}, last);
    for (std::size_t i = 0; i < 2; ++i) {
      sum += std::abs(static_cast<double>(predicted[i]) - static_cast<double>(now[i]));
      held += std::abs(static_cast<double>(newest[i]) - static_cast<double>(now[i]));
    }
  }
  EXPECT_LT(sum, held / 3);
}

// ---- predictors ----

struct States {
  explicit States(const EntityModel& model, std::size_t column, std::vector<std::uint32_t> values)
      : rows(values.size(), std::vector<std::uint32_t>(model.columns())) {
    for (std::size_t i = 0; i < values.size(); ++i) {  // newest first, a tick apart, up to tick 10
      rows[i][column] = values[i];
      known.push_back({static_cast<std::uint32_t>(10 - i), {rows[i], {}}});
    }
  }
  std::vector<std::vector<std::uint32_t>> rows;
  std::vector<Known> known;
};

TEST(Predictors, FollowTheMotionThatTheyAreFor) {
  const EntityModel model(kite(), 20);
  const std::size_t at = column_of(kite(), "at");
  const auto predicted = [&](Predictor predictor, std::vector<std::uint32_t> newest_first,
                             std::uint32_t tick) {
    const States states(model, at, std::move(newest_first));
    return model.predict(at, predictor, states.known, states.rows[0], tick);
  };
  const std::vector<std::uint32_t> even{400, 390, 380, 370};
  for (const auto predictor :
       {Predictor::linear, Predictor::steady, Predictor::linear_recent, Predictor::quadratic}) {
    EXPECT_EQ(predicted(predictor, even, 13), 430U) << name_of(predictor);
  }
  EXPECT_EQ(predicted(Predictor::hold, even, 13), 400U);
  const std::vector<std::uint32_t> faster{416, 409, 404, 401};  // x^2 + 400
  EXPECT_EQ(predicted(Predictor::quadratic, faster, 12), 436U);
  EXPECT_EQ(predicted(Predictor::linear_recent, faster, 12), 430U);
  const std::vector<std::uint32_t> leapt{900, 400, 400, 400};
  EXPECT_EQ(predicted(Predictor::steady, leapt, 12), 900U);
  EXPECT_GT(predicted(Predictor::linear, leapt, 12), 1000U);
  // One state alone, and the ends of the range.
  EXPECT_EQ(predicted(Predictor::quadratic, {7}, 40), 7U);
  EXPECT_EQ(predicted(Predictor::linear, {1, 10, 19, 28}, 30), 0U);
  const std::uint32_t last = kite().columns[at].last;
  EXPECT_EQ(predicted(Predictor::linear, {last - 1, last - 10}, 30), last);
}

TEST(Predictors, StayInTheRangeWhateverTheStatesAre) {
  std::mt19937_64 random(5);
  for (const schema::EntityInfo* info : bay::kEntities.types) {
    const EntityModel model(*info, 20);
    for (int i = 0; i < 300; ++i) {
      std::vector<std::vector<std::uint32_t>> rows;
      std::vector<Known> known;
      std::uint32_t tick = 1000;
      for (std::size_t n = 1 + random() % kKnownStates; n > 0; --n) {
        auto& row = rows.emplace_back();
        for (const ColumnInfo& column : info->columns) {
          row.push_back(
              column.form == schema::ColumnForm::varying
                  ? 0
                  : static_cast<std::uint32_t>(random() % (std::uint64_t{column.last} + 1)));
        }
      }
      for (const auto& row : rows) {
        known.push_back({tick, {row, {}}});
        tick -= static_cast<std::uint32_t>(1 + random() % 8);
      }
      for (std::size_t c = 0; c < info->columns.size(); ++c) {
        if (info->columns[c].form == schema::ColumnForm::varying) continue;
        for (std::size_t p = 0; p < kPredictors; ++p) {
          const auto predictor = static_cast<Predictor>(p);
          if (!model.choice(c).has(predictor)) continue;
          const auto ahead = static_cast<std::uint32_t>(random() % 100);
          EXPECT_LE(model.predict(c, predictor, known, rows[0], 1000 + ahead),
                    info->columns[c].last)
              << info->name << " column " << c << " " << name_of(predictor);
        }
      }
    }
  }
}

// ---- tables ----

TEST(CodeTables, NoSymbolThatWasNeverSeenIsVeryLong) {
  SymbolCounts counts(bay::kEntities);
  for (auto& type : counts.types()) {
    for (auto& by_age : type.continuing) by_age[0] = 10'000'000;
    for (auto& by_age : type.unexpected) by_age[1 % by_age.size()] = 10'000'000;
  }
  const CodeTables tables(SymbolCounts::fitted(bay::kEntities, counts));
  for (const auto& type : tables.inside().types) {
    for (const PrefixCode& code : type.continuing) {
      EXPECT_LE(code.bits(code.symbols() - 2), 12U) << "nothing here";
      for (std::size_t s = 0; s < code.symbols(); ++s) EXPECT_LE(code.bits(s), 17U);
    }
  }
}

TEST(CodeTables, TrainingChoosesPredictorsAndTheFileKeepsThem) {
  SymbolCounts counts(bay::kEntities);
  const std::size_t turn = column_of(kite(), "turn");
  const std::size_t at = column_of(kite(), "at");
  auto& trials = counts.types()[kite().type].trials;
  const auto set = [&](std::size_t column, Predictor predictor, std::uint64_t bits) {
    trials[column][static_cast<std::size_t>(predictor)] = bits;
  };
  for (std::size_t i = 1; i < 4; ++i) {
    set(turn + i, Predictor::linear, 1000);
    set(turn + i, Predictor::hold, 500);
  }
  set(at, Predictor::steady, 1000);
  set(at, Predictor::quadratic, 900);
  set(at + 1, Predictor::steady, 1000);
  set(at + 1, Predictor::quadratic, 995);  // not worth a change
  const SymbolCounts fitted = SymbolCounts::fitted(bay::kEntities, counts);
  const auto& chosen = fitted.types()[kite().type].predictors;
  EXPECT_EQ(chosen[turn + 1], Predictor::hold);
  EXPECT_EQ(chosen[turn + 3], Predictor::hold);
  EXPECT_EQ(chosen[at], Predictor::quadratic);
  EXPECT_EQ(chosen[at + 1], Predictor::steady);
  const auto kept = SymbolCounts::fitted(bay::kEntities, counts, SymbolCounts::Choose::nothing);
  EXPECT_EQ(kept.types()[kite().type].predictors[at], Predictor::steady);

  const CodeTables tables(fitted);
  std::string text = text_of(tables, bay::kEntities, "bay");
  const auto read = read_codes(text, bay::kEntities);
  ASSERT_TRUE(read) << read.error().text;
  EXPECT_EQ((*read)->digest(), tables.digest());
  EXPECT_EQ((*read)->inside().types[kite().type].predictors, chosen);
  EXPECT_NE(tables.digest(), CodeTables(kept).digest());

  const std::string line = "Kite predictor at[0] quadratic";
  const std::size_t place = text.find(line);
  ASSERT_NE(place, std::string::npos);
  for (const char* wrong : {"Kite predictor at[0] follow_end", "Kite predictor at[0] clever",
                            "Kite predictor at[7] hold", "Kite predictor at[0]"}) {
    std::string bad = text;
    bad.replace(place, line.size(), wrong);
    const auto refused = read_codes(bad, bay::kEntities);
    ASSERT_FALSE(refused) << wrong;
    EXPECT_GT(refused.error().line, 0U) << wrong;
  }
  text.erase(place, line.size() + 1);
  const auto lacks = read_codes(text, bay::kEntities);
  ASSERT_FALSE(lacks);
  EXPECT_NE(lacks.error().text.find("Kite predictor at[0]"), std::string::npos);
}

}  // namespace coding_test
}  // namespace kwind::replica
