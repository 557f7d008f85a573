// Predictors: each follows the motion that it is for, and stays in the range of its column.
#include <gtest/gtest.h>

#include <array>
#include <cmath>
#include <random>

#include "kit/slow_row.h"
#include "kite.h"
#include "replica/coding/entity_model.h"

namespace kwind::replica {
namespace entity_model_test {

struct States {
  explicit States(const EntityModel& model, std::size_t column, std::vector<std::uint32_t> values)
      : rows(values.size(), std::vector<std::uint32_t>(model.columns())) {
    for (std::size_t i = 0; i < values.size(); ++i) {  // newest first, a tick apart, up to tick 10
      rows[i][column] = values[i];
      known.push_back({Tick(static_cast<std::uint32_t>(10 - i)), {rows[i], {}}});
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
    return model.predict(at, predictor, states.known, states.rows[0], Tick(tick));
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

// A row of an entity, from its own values.
template <class T>
std::vector<std::uint32_t> numbers_of(const T& value) {
  return kit::slow_row(value).numbers;
}

TEST(Predictors, FollowAVelocity) {
  const EntityModel model(bay::Gust::entity_info(), 20);
  // 8, -4 and 2 metres a second are 6.4, -3.2 and 1.6 steps of a sixteenth in each tick.
  const auto start = numbers_of(bay::Gust{{8, -4, 2}, {0, 0, 0}});
  const std::vector<Known> known{{Tick(10), {start, {}}}};
  auto now = start;
  const auto place = column_of(model.info(), "at");
  for (std::size_t axis = 0; axis < 3; ++axis) {
    now[place + axis] = model.predict(place + axis, Predictor::follow, known, start, Tick(15));
  }
  EXPECT_EQ(now, numbers_of(bay::Gust{{8, -4, 2}, {2, -1, 0.5}}));
  // A velocity that has changed meanwhile counts for half of the way, or for all of it.
  const auto turned = numbers_of(bay::Gust{{-8, 4, -2}, {0, 0, 0}});
  EXPECT_EQ(model.predict(place, Predictor::follow, known, turned, Tick(11)), start[place]);
  EXPECT_EQ(model.predict(place, Predictor::follow_end, known, turned, Tick(11)), start[place] - 6);
  EXPECT_EQ(model.predict(place, Predictor::follow_start, known, turned, Tick(11)),
            start[place] + 6);
}

TEST(Predictors, FollowADirectionInSpace) {
  std::mt19937_64 random(3);
  std::uniform_real_distribution<double> even(-1, 1);
  const EntityModel model(bay::Swift::entity_info(), 20);
  const auto place = column_of(model.info(), "at");
  for (int i = 0; i < 500; ++i) {
    const Eigen::Vector3d heading = Eigen::Vector3d(even(random), even(random), even(random));
    bay::Swift swift{heading.normalized(), 12, {0, 0, 0}};
    const auto start = numbers_of(swift);
    const std::vector<Known> known{{Tick(10), {start, {}}}};
    // A second, in which a degree at most is 0.21 metres.
    swift.at = swift.heading * 12;
    const auto truth = numbers_of(swift);
    for (std::size_t c = place; c < place + 3; ++c) {
      const auto found = model.predict(c, Predictor::follow, known, start, Tick(30));
      EXPECT_NEAR(found, truth[c], 0.21 * 16 + 1) << heading.transpose();
    }
  }
}

TEST(Predictors, StayInTheRangeWhateverTheStatesAre) {
  std::mt19937_64 random(5);
  for (const schema::EntityInfo* info : bay::kEntities.types) {
    const EntityModel model(*info, 20);
    for (int i = 0; i < 300; ++i) {
      std::vector<std::vector<std::uint32_t>> rows;
      std::vector<Known> known;
      Tick tick(1000);
      for (std::size_t n = 1 + random() % kKnownStates; n > 0; --n) {
        auto& row = rows.emplace_back();
        for (const schema::ColumnInfo& column : info->columns) {
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
          EXPECT_LE(model.predict(c, predictor, known, rows[0], Tick(1000) + ahead),
                    info->columns[c].last)
              << info->name << " column " << c << " " << name_of(predictor);
        }
      }
    }
  }
}

}  // namespace entity_model_test
}  // namespace kwind::replica
