// Code tables: what was never seen is not very long, and training chooses predictors.
#include <gtest/gtest.h>

#include <array>

#include "kite.h"
#include "replica/coding/code_tables.h"

namespace kwind::replica {
namespace code_tables_test {

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

}  // namespace code_tables_test
}  // namespace kwind::replica
