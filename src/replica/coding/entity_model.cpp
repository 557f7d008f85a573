// Prediction of fields in whole numbers: hold, linear, and motion by a velocity; tolerances.
//
// A predictor extrapolates a column from the last states that both ends have: hold (no change),
// linear (dead reckoning from two states), quadratic, or by the entity's own velocity, or speed and
// direction (`follows`). Each column's predictor is the one that trained tables name, else the one
// that the description suggests.
//
// A field with a tolerance (`within`) is sent only when the client's extrapolation has gone too far
// from its value.
//
// Invariant 1: no result depends on floating point. The tables of add_follow() are made with single
//   operations of IEEE 754, which every machine rounds alike, and the rest is in whole numbers.
#include "replica/coding/entity_model.h"

#include <algorithm>
#include <cmath>
#include <cstdlib>

namespace kwind::replica {
namespace {

constexpr unsigned kScaleBits = 24;
constexpr unsigned kTurnBits = 24;
// So many ticks ahead a state is moved on; beyond that nobody knows.
constexpr std::uint32_t kFarthest = 40;

// What has a tolerance of place may meanwhile turn by a 64th of a circle (5.6 degrees), and change
// its speed by a 32nd of the range of that: a moving entity leaves its tolerance of position sooner.
// Components of a velocity have ranges of both signs, so that a 64th is as much.
constexpr std::uint32_t kTurnTolerance = 64;
constexpr std::int64_t kSpeedTolerance = 32;
constexpr std::int64_t kVelocityTolerance = 64;

// Steps of place a tick, times 2^kScaleBits: what is faster crosses any range at once.
constexpr std::int64_t kFastest = std::int64_t{1} << 42;

std::int64_t whole(double value, std::int64_t max) {
  const auto limit = static_cast<double>(max);
  return static_cast<std::int64_t>(std::clamp(value, -limit, limit));
}
// Products of a speed's number, of 32 bits, and its step do not overflow.
constexpr std::int64_t kMaxSpeedStep = std::int64_t{1} << 29;

constexpr std::int64_t kOne = std::int64_t{1} << 30;
constexpr std::int64_t times(std::int64_t a, std::int64_t b) {  // of numbers times 2^30
  return (a * b + kOne / 2) >> 30;
}

// Cosine of place / 2^32 of a turn, times 2^30: the Taylor series, in whole numbers.
std::int64_t cosine(std::uint32_t place) {
  // Fold onto the first eighth, where both series are short.
  constexpr std::uint32_t kQuarter = std::uint32_t{1} << 30;
  const std::uint32_t folded = place > 2 * kQuarter ? ~place + 1 : place;  // cos(-x) = cos(x)
  const bool negative = folded > kQuarter;
  const std::uint32_t x32 = negative ? 2 * kQuarter - folded : folded;  // 0 to a quarter
  const bool by_sine = x32 > kQuarter / 2;
  const std::int64_t turn = by_sine ? kQuarter - x32 : x32;
  // Radians times 2^30: turn / 2^32 * 2 pi.
  constexpr std::int64_t kTwoPi = 6746518852;  // 2 pi times 2^30
  const std::int64_t x = (turn * (kTwoPi >> 2) + (std::int64_t{1} << 29)) >> 30;
  const std::int64_t square = times(x, x);
  std::int64_t term = by_sine ? x : kOne;
  std::int64_t sum = 0;
  for (std::int64_t n = by_sine ? 1 : 0; n < 16; n += 2) {
    sum += term;
    term = -times(term, square) / ((n + 1) * (n + 2));
  }
  return negative ? -sum : sum;
}

// Divides downwards, also what is below 0. By a count that the compiler knows: no division is left.
static_assert(kKnownStates == 4);
std::int64_t mean_of(std::int64_t sum, std::int64_t count) {
  switch (count) {
    case 1: return sum;
    case 2: return sum >> 1;
    case 3: return sum >= 0 ? sum / 3 : -((-sum + 2) / 3);
    default: return sum >> 2;
  }
}

// As `/`, which takes its time with 64 bits.
std::int64_t divide(std::int64_t value, std::int32_t by) {
  const auto small = static_cast<std::int32_t>(value);
  return small == value ? small / by : value / by;
}

}  // namespace

// Everything that follows from the description alone: computed once for a type, read by each
// client's encoder.
EntityModel::EntityModel(const schema::EntityInfo& info, double ticks_per_second) : info_(&info) {
  follow_of_.assign(info.columns.size(), -1);
  if (info.at_most_per_second > 0) {
    period_ = static_cast<std::uint32_t>(
        std::max(std::ceil(ticks_per_second / info.at_most_per_second), 1.0));
  }
  for (const schema::FollowInfo& follow : info.follows) add_follow(follow, ticks_per_second);
  for (std::size_t column = 0; column < info.columns.size(); ++column) {
    choices_.push_back(predictors_of(info, column));
    places_.push_back(varying_);
    varying_ += info.columns[column].form == schema::ColumnForm::varying ? 1 : 0;
    owner_has_more_ = owner_has_more_ || info.columns[column].owner_only;
  }
  order_ = coding_order(info);
  mask_ = mask_columns(info, order_);
  for (const std::uint16_t c : order_) {
    if (!info.columns[c].at_spawn) add_changing(c);
  }
  find_freshness();
}

schema::Freshness EntityModel::freshness(std::size_t column) const {
  const schema::Freshness own = info_->columns[column].freshness;
  return own == schema::Freshness::usual ? info_->freshness : own;
}

// An entity type without changing columns takes its own word: its arrivals are repeated, too.
void EntityModel::find_freshness() {
  bool some_lazy = info_->freshness == schema::Freshness::lazy;
  bool all_lazy = some_lazy;
  has_urgent_ = info_->freshness == schema::Freshness::urgent;
  for (const ChangingColumn& each : changing_) {
    const bool lazy = freshness(each.column) == schema::Freshness::lazy;
    some_lazy = some_lazy || lazy;
    all_lazy = all_lazy && lazy;
    has_urgent_ = has_urgent_ || freshness(each.column) == schema::Freshness::urgent;
  }
  repeats_ = !tolerant_ && !all_lazy;
  repeats_some_ = repeats_ && some_lazy;
}

EntityModel::Pressing EntityModel::pressing(const Row& from, const Row& to) const {
  Pressing made;
  for (const ChangingColumn& each : changing_) {
    const std::size_t place = places_[each.column];
    const bool differs = each.varies ? !same(from.varying[place], to.varying[place])
                                     : from.numbers[each.column] != to.numbers[each.column];
    if (!differs) continue;
    made.repeated = made.repeated || freshness(each.column) != schema::Freshness::lazy;
    made.urgent = made.urgent || freshness(each.column) == schema::Freshness::urgent;
  }
  return made;
}

// Motion by speed and direction: the way in one tick for each step of speed, and for an angle the
// share of each axis in it for each step of the turn, as tables.
void EntityModel::add_follow(const schema::FollowInfo& follow, double ticks_per_second) {
  // `owner only` fields predict nothing for other clients.
  if (!info_->columns[follow.first].owner_only && hides_leader(*info_, follow)) return;
  for (std::size_t axis = 0; axis < follow.axes; ++axis) {
    follow_of_[follow.first + axis] = static_cast<std::int16_t>(follows_.size());
  }
  // Each of these is one operation of IEEE 754, which every machine rounds alike.
  const double unit = static_cast<double>(std::int64_t{1} << kScaleBits) / ticks_per_second;
  Follow made{&follow,
              whole(follow.speed_zero / follow.place_step * unit, kFastest),
              whole(follow.speed_step / follow.place_step * unit, kMaxSpeedStep),
              {}};
  const std::uint64_t steps = follow.form == schema::FollowForm::angle ? follow.angle_steps : 0;
  for (std::size_t axis = 0; axis < made.shares.size(); ++axis) {
    made.shares[axis].reserve(steps);
    for (std::uint64_t i = 0; i < steps; ++i) {
      // A turn counts from the first axis to the second.
      const std::uint64_t along = axis == 0 ? i : (i + steps - steps / 4) % steps;
      const auto place = static_cast<std::uint32_t>((along << 32) / steps);
      made.shares[axis].push_back(static_cast<std::int32_t>(cosine(place) >> (30 - kTurnBits)));
    }
  }
  follows_.push_back(std::move(made));
  tolerant_ = tolerant_ || follow.within > 0;
}

// What read_change() and write_change() need to know of a column, in one place.
void EntityModel::add_changing(std::uint16_t c) {
  const schema::ColumnInfo& column = info_->columns[c];
  ChangingColumn& made = changing_.emplace_back();
  made.column = c;
  made.bits = column.bits;
  made.owner_only = column.owner_only;
  made.varies = column.form == schema::ColumnForm::varying;
  const bool number = !made.varies && column.form != schema::ColumnForm::opaque;
  if (follow_of_[c] >= 0) {
    const Follow& follow = follows_[static_cast<std::size_t>(follow_of_[c])];
    made.moves = c == follow.info->first ? ChangingColumn::Moves::first_of_place
                                         : ChangingColumn::Moves::with_others;
  } else if (column.group == schema::ColumnGroup::rotation) {
    // What the largest component is, is known before the others are predicted.
    made.moves = column.group_place == 0   ? ChangingColumn::Moves::no
                 : column.group_place == 1 ? ChangingColumn::Moves::first_of_group
                                           : ChangingColumn::Moves::with_others;
  } else if (column.group == schema::ColumnGroup::direction3) {
    made.moves = column.group_place == 0 ? ChangingColumn::Moves::first_of_group
                                         : ChangingColumn::Moves::with_others;
  } else if (number && column.bits <= 30) {
    made.moves = ChangingColumn::Moves::by_itself;
  }
  // Columns of 31 and 32 bits would have errors beyond what a count holds.
  made.by_error = number && column.bits <= 30;
  const auto said = std::find_if(mask_.begin(), mask_.end(),
                                 [&](const MaskColumn& each) { return each.column == c; });
  if (said == mask_.end()) {
    has_rest_ = true;
  } else {
    made.place = said->place;
    made.width = said->bits;
  }
}

EntityModel::Ways EntityModel::ways_of(const Follow& follow,
                                       std::span<const std::uint32_t> numbers) const {
  const auto speed_of = [&](std::size_t column) {
    return std::clamp(follow.zero + static_cast<std::int64_t>(numbers[column]) * follow.step,
                      -kFastest, kFastest);
  };
  const schema::FollowInfo& info = *follow.info;
  Ways made{};
  if (info.form == schema::FollowForm::velocity) {
    for (std::size_t axis = 0; axis < info.axes; ++axis)
      made.at(axis) = speed_of(info.speed + axis);
    return made;
  }
  // The last bits of the speed go, so that products fit.
  const std::int64_t speed = speed_of(info.speed) >> 4;
  if (info.form == schema::FollowForm::angle) {
    const std::uint32_t along = numbers[info.along];
    made[0] = speed * follow.shares[0][along] >> (kTurnBits - 4);
    made[1] = speed * follow.shares[1][along] >> (kTurnBits - 4);
    return made;
  }
  const auto shares =
      shares_of_direction(&numbers[info.along], info_->columns[info.along].last, kTurnBits);
  for (std::size_t axis = 0; axis < made.size(); ++axis) {
    made.at(axis) = speed * shares.at(axis) >> (kTurnBits - 4);
  }
  return made;
}

// Steps beyond the range stop at its end; those of an angle go round.
std::uint32_t EntityModel::moved(std::size_t column, std::uint32_t from, std::int64_t by) const {
  const schema::ColumnInfo& info = info_->columns[column];
  const std::int64_t size = std::int64_t{info.last} + 1;
  const std::int64_t to = std::int64_t{from} + by;
  if (to >= 0 && to < size) return static_cast<std::uint32_t>(to);  // and no division
  if (info.form == schema::ColumnForm::circular) {
    return static_cast<std::uint32_t>(((to % size) + size) % size);
  }
  return static_cast<std::uint32_t>(std::clamp<std::int64_t>(to, 0, info.last));
}

void EntityModel::predict_position(const Follow& follow, Predictor predictor, std::size_t axis,
                                   std::size_t axes, std::span<const Known> known,
                                   std::span<const std::uint32_t> now, Tick tick,
                                   std::uint32_t* predicted) const {
  // The way of each tick is by the mean of speed and direction at its start and its end; between
  // states that are several ticks apart these change evenly. Where it is by those at one end alone,
  // half of the whole change comes on top, or goes off. Places are rounded, so that where several
  // states lead is nearer to the truth than where the newest does alone.
  constexpr unsigned kPlaceBits = kScaleBits + 1;
  constexpr std::int64_t kAgree = std::int64_t{2} << kPlaceBits;  // steps apart at most
  constexpr std::int64_t kHalf = std::int64_t{1} << (kPlaceBits - 1);
  const std::int64_t end = predictor == Predictor::follow_end     ? 1
                           : predictor == Predictor::follow_start ? -1
                                                                  : 0;
  const std::int64_t ahead = std::min(tick - known.front().tick, kFarthest);
  const Ways to = ways_of(follow, now);
  std::array<Ways, kKnownStates> from;  // NOLINT: one for each state
  for (std::size_t i = 0; i < known.size(); ++i) from[i] = ways_of(follow, known[i].row.numbers);
  for (const std::size_t last = axis + axes; axis < last; ++axis) {
    const std::size_t column = follow.info->first + axis;
    std::int64_t before = from[0].at(axis);
    const std::int64_t now_way = to.at(axis);
    std::int64_t on = (before + now_way) * ahead + end * (now_way - before);
    const std::int64_t newest =
        (std::int64_t{known.front().row.numbers[column]} << kPlaceBits) + on;
    std::int64_t sum = newest;
    std::int64_t count = 1;
    for (std::size_t i = 1; i < known.size(); ++i) {
      const std::int64_t then = from[i].at(axis);
      on +=
          (then + before) * std::int64_t{known[i - 1].tick - known[i].tick} + end * (before - then);
      before = then;
      const std::int64_t leads = (std::int64_t{known[i].row.numbers[column]} << kPlaceBits) + on;
      if (leads - newest > kAgree || newest - leads > kAgree) break;
      sum += leads;
      ++count;
    }
    *predicted++ = moved(column, 0, (mean_of(sum, count) + kHalf) >> kPlaceBits);
  }
}

std::uint32_t EntityModel::predict_number(std::size_t column, Predictor predictor,
                                          std::span<const Known> known, Tick tick) const {
  const Known& newest = known.front();
  const std::uint32_t value = newest.row.numbers[column];
  if (predictor == Predictor::hold || known.size() < 2) return value;
  const std::int64_t ahead = std::min(tick - newest.tick, kFarthest);
  const auto step_of = [&](const Known& from, const Known& to) {
    return error_of(column, from.row.numbers[column], to.row.numbers[column]);
  };
  // Of the mean rate the rounding matters the less, the longer ago the first state was.
  const bool since_oldest = predictor == Predictor::linear || predictor == Predictor::steady;
  const Known& other = since_oldest ? known.back() : known[1];
  if (predictor == Predictor::steady && known.size() > 2) {
    // Both rates are rounded: over `ahead` ticks that may be as many steps.
    const std::int64_t recent = std::max<std::int64_t>(newest.tick - known[1].tick, 1);
    const std::int64_t earlier = std::max<std::int64_t>(known[1].tick - known[2].tick, 1);
    const std::int64_t bend =
        step_of(known[1], newest) * earlier - step_of(known[2], known[1]) * recent;
    if (std::abs(bend) > 2 * recent * earlier) return value;
  }
  const std::uint32_t span = newest.tick - other.tick;
  if (span == 0 || span > kFarthest) return value;
  const std::int64_t step = step_of(other, newest);
  const auto width = static_cast<std::int32_t>(span);
  if (predictor != Predictor::quadratic || known.size() < 3) {
    return moved(column, value, divide(step * ahead, width));
  }
  // Newton's interpolation through three points, 16 bits of fraction.
  const std::uint32_t before = other.tick - known[2].tick;
  if (before == 0 || before > kFarthest) return moved(column, value, divide(step * ahead, width));
  constexpr std::int64_t kFraction = 16;
  const std::int64_t rate = (step << kFraction) / width;
  const std::int64_t rate_before = (step_of(known[2], other) << kFraction) / std::int64_t{before};
  const std::int64_t bend = (rate - rate_before) / std::int64_t{span + before};
  const std::int64_t by = rate * ahead + bend * ahead * (ahead + std::int64_t{span});
  return moved(column, value, by >> kFraction);
}

std::uint32_t EntityModel::predict(std::size_t column, Predictor predictor,
                                   std::span<const Known> known, std::span<const std::uint32_t> now,
                                   Tick tick) const {
  if (const int place = follow_of_[column]; place >= 0 && predictor >= Predictor::follow_start) {
    const Follow& follow = follows_[static_cast<std::size_t>(place)];
    std::uint32_t predicted = 0;
    predict_position(follow, predictor, column - follow.info->first, 1, known, now, tick,
                     &predicted);
    return predicted;
  }
  const schema::ColumnInfo& info = info_->columns[column];
  const std::size_t first = column - info.group_place;
  if (info.group == schema::ColumnGroup::direction3) {
    return predict_direction(unit_states(first, predictor, known, tick),
                             info.last)[info.group_place];
  }
  if (info.group == schema::ColumnGroup::rotation) {
    if (info.group_place == 0) return known.front().row.numbers[column];
    return predict_rotation(unit_states(first, predictor, known, tick), now[first],
                            info.last)[info.group_place - std::size_t{1}];
  }
  return predict_number(column, predictor, known, tick);
}

void EntityModel::predict_at(const ChangingColumn& at, std::span<const Predictor> predictors,
                             std::span<const Known> known, std::span<std::uint32_t> now,
                             Tick tick) const {
  const Predictor predictor = predictors[at.column];
  switch (at.moves) {
    case ChangingColumn::Moves::no:
    case ChangingColumn::Moves::with_others: return;
    case ChangingColumn::Moves::by_itself:
      if (predictor != Predictor::hold) {
        now[at.column] = predict_number(at.column, predictor, known, tick);
      }
      return;
    case ChangingColumn::Moves::first_of_group: {
      const schema::ColumnInfo& info = info_->columns[at.column];
      const std::size_t first = at.column - info.group_place;
      const UnitStates states = unit_states(first, predictor, known, tick);
      if (info.group == schema::ColumnGroup::rotation) {
        const auto made = predict_rotation(states, now[first], info.last);
        std::copy(made.begin(), made.end(), &now[at.column]);
      } else {
        const auto made = predict_direction(states, info.last);
        std::copy(made.begin(), made.end(), &now[at.column]);
      }
      return;
    }
    case ChangingColumn::Moves::first_of_place: break;
  }
  const Follow& follow = follows_[static_cast<std::size_t>(follow_of_[at.column])];
  if (predictor >= Predictor::follow_start) {
    predict_position(follow, predictor, 0, follow.info->axes, known, now, tick, &now[at.column]);
    return;
  }
  for (std::size_t axis = 0; axis < follow.info->axes; ++axis) {
    now[at.column + axis] = predict_number(at.column + axis, predictor, known, tick);
  }
}

UnitStates EntityModel::unit_states(std::size_t first, Predictor predictor,
                                    std::span<const Known> known, Tick tick) const {
  const Known& newest = known.front();
  const Known& oldest = known.back();
  UnitStates states{&newest.row.numbers[first], nullptr, newest.tick - oldest.tick,
                    std::min(tick - newest.tick, kFarthest)};
  const bool moves = predictor != Predictor::hold && states.span > 0 && states.span <= kFarthest;
  if (moves) states.oldest = &oldest.row.numbers[first];
  return states;
}

std::uint32_t EntityModel::moved_on(std::size_t column, const Known& then, Tick tick) const {
  const Known all[] = {then};
  return follow_of_[column] >= 0 ? predict(column, Predictor::follow, all, then.row.numbers, tick)
                                 : then.row.numbers[column];
}

// Whether clients show the new values well enough without hearing of them. Rule: a position may be
// off by `within`, measured from where a client extrapolates to; speed and direction may be off by
// a share of their range, since the position bounds their effect; everything else must be equal.
bool EntityModel::stands(const Known& then, const Row& now, Tick tick) const {
  if (!tolerant_ || follows_.empty()) return same(then.row, now);
  if (!std::equal(now.varying.begin(), now.varying.end(), then.row.varying.begin(),
                  then.row.varying.end(),
                  [](const SharedBits& a, const SharedBits& b) { return same(a, b); })) {
    return false;
  }
  const auto apart = [&](std::size_t column) {
    return std::abs(error_of(column, then.row.numbers[column], now.numbers[column]));
  };
  // How far a column may be off by itself; -1: nobody has looked at it.
  const auto allowed = [&](std::size_t column) -> std::int64_t {
    for (const Follow& follow : follows_) {
      if (follow.info->within <= 0) continue;
      const std::int64_t count = std::int64_t{info_->columns[column].last} + 1;
      if (follow.info->gives_direction(column)) return count / kTurnTolerance;
      if (follow.info->gives_speed(column)) {
        const bool is_velocity = follow.info->form == schema::FollowForm::velocity;
        return count / (is_velocity ? kVelocityTolerance : kSpeedTolerance);
      }
      if (column - std::size_t{follow.info->first} < follow.info->axes) return -1;
    }
    return 0;
  };
  for (std::size_t column = 0; column < columns(); ++column) {
    if (info_->columns[column].form == schema::ColumnForm::varying) continue;
    const std::int64_t max = allowed(column);
    if (max >= 0 && (now.numbers[column] != then.row.numbers[column]) && apart(column) > max) {
      return false;
    }
  }
  for (const Follow& follow : follows_) {
    if (follow.info->within <= 0) continue;
    double square = 0;  // in steps of place
    for (std::size_t axis = 0; axis < follow.info->axes; ++axis) {
      const std::size_t column = follow.info->first + axis;
      const auto off =
          static_cast<double>(error_of(column, moved_on(column, then, tick), now.numbers[column]));
      square += off * off;
    }
    const double max = follow.info->within / follow.info->place_step;
    if (square > max * max) return false;
  }
  return true;
}

// A jump, such as a teleport: no extrapolation spans it.
bool EntityModel::leaps(const Known& from, const Known& to) const {
  // With another carrier the same numbers are another position.
  for (const schema::AttachmentInfo& each : info_->attachments) {
    if (from.row.numbers[each.carrier] != to.row.numbers[each.carrier]) return true;
  }
  constexpr std::int64_t kPart = 8;  // of the range
  for (std::size_t c = 0; c < columns(); ++c) {
    const schema::ColumnInfo& column = info_->columns[c];
    const bool moves = column.form == schema::ColumnForm::number &&
                       column.group == schema::ColumnGroup::none &&
                       (column.smooth || follows(*info_, c));
    if (!moves) continue;
    const std::uint32_t then = tolerant_ ? moved_on(c, from, to.tick) : from.row.numbers[c];
    if (std::abs(error_of(c, then, to.row.numbers[c])) > column.last / kPart) return true;
  }
  return false;
}

std::int64_t EntityModel::error_of(std::size_t column, std::uint32_t predicted,
                                   std::uint32_t value) const {
  const schema::ColumnInfo& info = info_->columns[column];
  std::int64_t error = std::int64_t{value} - std::int64_t{predicted};
  if (info.form == schema::ColumnForm::circular) {
    const std::int64_t size = std::int64_t{info.last} + 1;
    if (error > size / 2) error -= size;
    if (error <= -(size + 1) / 2) error += size;
  }
  return error;
}

bool EntityModel::at_error(std::size_t column, std::uint32_t predicted, std::int64_t error,
                           std::uint32_t& value) const {
  const schema::ColumnInfo& info = info_->columns[column];
  std::int64_t to = std::int64_t{predicted} + error;
  const std::int64_t size = std::int64_t{info.last} + 1;
  if (info.form == schema::ColumnForm::circular && (to < 0 || to >= size)) {
    to = ((to % size) + size) % size;
  }
  if (to < 0 || to > std::int64_t{info.last}) return false;
  value = static_cast<std::uint32_t>(to);
  return true;
}

}  // namespace kwind::replica
