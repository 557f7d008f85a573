// What both ends predict for a column from the states that the client is known to have.
#pragma once
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <numbers>
#include <vector>

#include "kit/slow_row.h"

namespace kwind::kit {

/// What a snapshot told of an entity.
enum class SlowUpdate { whole, change, gone };
struct SlowTold {
  SlowUpdate what;
  std::uint32_t tick;
  std::uint8_t generation;
  const schema::EntityInfo* kind;
  bool owner;
  SlowRow row;
};

// The shortest difference, around the circle for angles.
inline std::int64_t way_to(const schema::ColumnInfo& column, std::int64_t from, std::int64_t to) {
  std::int64_t way = to - from;
  if (column.form != schema::ColumnForm::circular) return way;
  const std::int64_t turn = std::int64_t{column.last} + 1;
  while (2 * way > turn) way -= turn;
  while (2 * way <= -turn - (turn % 2 != 0 ? 1 : 0)) way += turn;
  return way;
}
// Clamped to the range of the column, or wrapped around the circle.
inline std::int64_t kept_in(const schema::ColumnInfo& column, std::int64_t value) {
  const std::int64_t turn = std::int64_t{column.last} + 1;
  if (column.form == schema::ColumnForm::circular) return (value % turn + turn) % turn;
  return std::clamp<std::int64_t>(value, 0, column.last);
}
// Integer square root, rounded down.
inline std::int64_t root(std::int64_t value) {
  auto found = static_cast<std::int64_t>(std::sqrt(static_cast<long double>(value)));
  while (found * found > value) --found;
  while ((found + 1) * (found + 1) <= value) ++found;
  return found;
}
// Quotient, rounded half up.
inline std::int64_t half_up(std::int64_t value, std::int64_t by) {
  std::int64_t quotient = (2 * value + by) / (2 * by);
  if (quotient * 2 * by > 2 * value + by) --quotient;
  return quotient;
}
// Rotations and directions.
inline std::int64_t unit(const std::vector<const SlowTold*>& states, std::size_t c,
                         const SlowRow& now, std::int64_t ahead) {
  const schema::EntityInfo& kind = *states.front()->kind;
  const schema::ColumnInfo& column = kind.columns[c];
  const std::size_t first = c - column.group_place;
  const SlowRow& newest = states.front()->row;
  const std::int64_t span = std::int64_t{states.front()->tick} - states.back()->tick;
  const bool moves = column.smooth && span > 0 && span <= 40;
  const bool rotation = column.group == schema::ColumnGroup::rotation;
  if (rotation && column.group_place == 0) return newest.numbers[c];
  if (!moves && (!rotation || newest.numbers[first] == now.numbers[first])) {
    return newest.numbers[c];
  }
  const std::int64_t half = kind.columns[first + 1].last / 2;
  const auto vector_of = [&](const SlowRow& row) {
    std::vector<std::int64_t> v;
    const auto steps = [&](std::size_t i) { return std::int64_t{row.numbers[first + i]} - half; };
    if (rotation) {
      std::int64_t square = 2 * half * half;
      for (std::size_t i = 1; i < 4; ++i) square -= steps(i) * steps(i);
      for (std::size_t i = 1; i < 4; ++i) v.push_back(steps(i) * 2048);
      v.insert(v.begin() + row.numbers[first],
               root(std::max<std::int64_t>(square, 0) * 2048 * 2048));
    } else {
      const std::int64_t x = steps(0);
      const std::int64_t y = steps(1);
      const std::int64_t z = half - std::abs(x) - std::abs(y);
      v = {x, y, z};
      if (z < 0)
        v = {x < 0 ? std::abs(y) - half : half - std::abs(y),
             y < 0 ? std::abs(x) - half : half - std::abs(x), z};
      for (std::int64_t& each : v) each *= 1024;
    }
    return v;
  };
  std::vector<std::int64_t> v = vector_of(newest);
  if (moves) {
    std::vector<std::int64_t> from = vector_of(states.back()->row);
    std::int64_t dot = 0;
    for (std::size_t i = 0; rotation && i < 4; ++i) dot += (from[i] >> 8) * (v[i] >> 8);
    for (std::size_t i = 0; i < v.size(); ++i) {
      v[i] += (v[i] - (dot < 0 ? -from[i] : from[i])) * ahead / span;
    }
  }
  const auto index = [&](std::int64_t steps) { return std::clamp(steps, -half, half) + half; };
  if (rotation) {
    const std::size_t largest = now.numbers[first];
    if (v[largest] < 0) {
      for (std::int64_t& each : v) each = -each;
    }
    std::int64_t square = 0;
    for (std::int64_t& each : v) {
      each >>= 8;
      square += each * each;
    }
    const std::int64_t length = root(square) * 16;
    if (length == 0) return newest.numbers[c];
    v.erase(v.begin() + static_cast<std::ptrdiff_t>(largest));
    const std::int64_t wanted = root(2 * half * half * 256);
    return index(half_up(v[column.group_place - std::size_t{1}] * wanted, length));
  }
  const std::int64_t sum = std::abs(v[0]) + std::abs(v[1]) + std::abs(v[2]);
  if (sum == 0) return newest.numbers[c];
  std::int64_t x = half_up(v[0] * half, sum);
  std::int64_t y = half_up(v[1] * half, sum);
  if (v[2] < 0) {
    const std::int64_t folded_x = (half - std::abs(y)) * (x < 0 ? -1 : 1);
    y = (half - std::abs(x)) * (y < 0 ? -1 : 1);
    x = folded_x;
  }
  return index(column.group_place == 0 ? x : y);
}

// Positions by speed and direction, smooth numbers on a line, unit vectors along their last way,
// all others as they were.
inline std::int64_t predicted(const std::vector<const SlowTold*>& states, std::size_t c,
                              const SlowRow& now, std::uint32_t tick) {
  const schema::EntityInfo& kind = *states.front()->kind;
  const schema::ColumnInfo& column = kind.columns[c];
  const SlowTold& newest = *states.front();
  const std::int64_t ahead = std::min<std::int64_t>(tick - newest.tick, 40);
  if (is_place(kind, c)) {
    const schema::FollowInfo& follow = kind.follows[0];
    const auto way = [&](const SlowRow& row) {
      const double unit = std::ldexp(1.0, 24) / 20;
      const auto zero = static_cast<std::int64_t>(follow.speed_zero / follow.place_step * unit);
      const auto step = static_cast<std::int64_t>(follow.speed_step / follow.place_step * unit);
      const std::size_t axis = c - follow.first;
      const bool is_velocity = follow.form == schema::FollowForm::velocity;
      const std::int64_t speed =
          zero + std::int64_t{row.numbers[follow.speed + (is_velocity ? axis : 0)]} * step;
      if (is_velocity) return speed;
      if (follow.form == schema::FollowForm::direction) {
        // On the octahedron, then in proportion to the length.
        const std::int64_t half = kind.columns[follow.along].last / 2;
        const std::int64_t x = row.numbers[follow.along] - half;
        const std::int64_t y = row.numbers[follow.along + 1] - half;
        const std::int64_t z = half - std::abs(x) - std::abs(y);
        std::vector<std::int64_t> p{x, y, z};
        if (z < 0) {
          p = {(x < 0 ? -1 : 1) * (half - std::abs(y)), (y < 0 ? -1 : 1) * (half - std::abs(x)), z};
        }
        const std::int64_t length = root((p[0] * p[0] + p[1] * p[1] + p[2] * p[2]) * 512 * 512);
        const std::int64_t share = p[axis] * (std::int64_t{1} << 33) / length;
        return (speed >> 4) * share >> 20;
      }
      const double turn = static_cast<double>(row.numbers[follow.along]) / follow.angle_steps;
      const double angle = 2 * std::numbers::pi * turn;
      const double part = c == follow.first ? std::cos(angle) : std::sin(angle);
      const auto cosine = static_cast<std::int64_t>(std::floor(std::ldexp(part, 24) + 1e-3));
      return (speed >> 4) * cosine >> 20;
    };
    std::vector<std::int64_t> leads;
    for (std::size_t i = 0; i < states.size(); ++i) {
      std::int64_t to = std::int64_t{states[i]->row.numbers[c]} << 25;
      for (std::size_t j = 1; j <= i; ++j) {
        to += (way(states[j]->row) + way(states[j - 1]->row)) *
              (std::int64_t{states[j - 1]->tick} - states[j]->tick);
      }
      // By speed and direction at the end of each tick.
      leads.push_back(to + (way(newest.row) + way(now)) * ahead + way(now) - way(states[i]->row));
      if (std::abs(leads.back() - leads.front()) > std::int64_t{2} << 25) {
        leads.pop_back();
        break;
      }
    }
    std::int64_t sum = 0;
    for (const std::int64_t lead : leads) sum += lead;
    auto mean = static_cast<std::int64_t>(sum / static_cast<std::int64_t>(leads.size()));
    if (mean * static_cast<std::int64_t>(leads.size()) > sum) --mean;
    return kept_in(column, (mean + (std::int64_t{1} << 24)) >> 25);
  }
  if (column.group != schema::ColumnGroup::none) return unit(states, c, now, ahead);
  if (!column.smooth || states.size() < 2) return newest.row.numbers[c];
  const SlowTold& oldest = *states.back();
  const auto step = [&](const SlowTold& from, const SlowTold& to) {
    return way_to(column, from.row.numbers[c], to.row.numbers[c]);
  };
  if (states.size() > 2) {
    const std::int64_t late = std::int64_t{newest.tick} - states[1]->tick;
    const std::int64_t early = std::int64_t{states[1]->tick} - states[2]->tick;
    const std::int64_t bend =
        step(*states[1], newest) * early - step(*states[2], *states[1]) * late;
    if (std::abs(bend) > 2 * late * early) return newest.row.numbers[c];
  }
  const std::int64_t span = std::int64_t{newest.tick} - oldest.tick;
  if (span == 0 || span > 40) return newest.row.numbers[c];
  return kept_in(column, newest.row.numbers[c] + step(oldest, newest) * ahead / span);
}

}  // namespace kwind::kit
