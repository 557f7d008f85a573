// Rules of thumb about replicated state. Each follows from the format (docs/state-format.md) and
// from the numbers of the plan; what a change saves in a real game, `kwind train --advise` measures
// on recorded traffic.
#include "kwind/budget/advice.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace kwind::budget {
namespace {

using schema::Field;
using schema::Type;
using schema::TypeKind;

// From this share of ticks on a field counts as one that moves.
constexpr double kMoves = 0.3;
// Changes a second from which a text counts as one that changes often.
constexpr double kOften = 0.5;
// Items among which replication finds what was inserted; see docs/state-format.md.
constexpr std::uint32_t kSearchedItems = 64;
// An acknowledged state is about so many ticks old when the next one builds on it.
constexpr double kTicksAhead = 4;
// A position step so many times finer than one step of its speed carries more noise than value.
constexpr double kNoise = 4;

class Adviser {
 public:
  Adviser(const schema::Protocol& protocol, const Plan& plan) : protocol_(protocol), plan_(plan) {}

  std::vector<Advice> advice() {
    for (const StatePlan& state : plan_.state) {
      entity_ = &protocol_.entities[state.entity];
      changing_ = state.changing;
      for (const std::uint32_t place : state.fields) look_at(entity_->fields[place]);
    }
    return std::move(found_);
  }

 private:
  void look_at(const Field& field) {
    const double a_second = changing_ * plan_.ticks_per_second;
    const bool is_text = field.type.kind == TypeKind::text || field.type.kind == TypeKind::bytes;
    if (is_text && a_second >= kOften) {
      add(field, fmt::format(
                     "changes {:.3g} times a second, with up to {} bytes each time; what is one of "
                     "a few texts is an enum, and what happens once is a message",
                     a_second, field.type.limit));
    }
    if (field.type.kind == TypeKind::list && a_second >= kOften) look_at_list(field);
    const bool moves = field.type.kind == TypeKind::real || schema::can_be_extrapolated(field.type);
    if (changing_ >= kMoves && moves && !field.words.predict() && !entity_->is_speed(field)) {
      add(field, fmt::format("changes in {:.0f} % of the ticks and is expected to stay as it is; "
                             "with `smooth` the error of an extrapolation is sent",
                             changing_ * 100));
    }
    if (field.words.follow) look_at_steps(field);
  }

  void look_at_list(const Field& field) {
    const schema::Size item = schema::size_of(protocol_, field.type.element.front());
    if (item.min_bits != item.max_bits) {
      add(field,
          "has items that differ in size: all between the first and the last difference is sent; "
          "of items of one size those that changed");
    } else if (field.type.limit > kSearchedItems) {
      add(field, fmt::format("can have more than {} items: where one is inserted or removed, all "
                             "after it is sent; the cells of a grid keep their places",
                             kSearchedItems));
    }
  }

  // A position that follows: how far one step of what it follows moves it.
  void look_at_steps(const Field& field) {
    const double step = step_of(axis_of(field.type));
    const Field* const speed = named(field.words.follow->speed);
    if (step <= 0 || speed == nullptr) return;
    const Type& speed_type =
        speed->type.kind == TypeKind::vec ? speed->type.element.front() : speed->type;
    const double speed_step = step_of(speed_type);
    if (speed_step <= 0) return;
    const double moved = speed_step / plan_.ticks_per_second;
    if (moved > kNoise * step) {
      const int bits = static_cast<int>(std::floor(std::log2(moved / step)));
      add(field,
          fmt::format("has steps of {:.3g}, and one step of `{}` moves it by {:.3g} in a "
                      "tick: what is finer is sent as an error; steps of {:.3g} take some {} "
                      "bits less for each axis",
                      step, speed->name, moved, step * std::exp2(bits), bits));
    } else if (moved * kTicksAhead * kNoise < step) {
      const int bits = static_cast<int>(std::floor(std::log2(step / (moved * kTicksAhead))));
      add(*speed, fmt::format("has steps of {:.3g}, which move `{}` by {:.3g} in {} ticks, less "
                              "than its step of {:.3g}; steps of {:.3g} take {} bits less",
                              speed_step, field.name, moved * kTicksAhead, kTicksAhead, step,
                              speed_step * std::exp2(bits), bits));
    }
  }

  [[nodiscard]] const Field* named(const std::string& name) const {
    const auto found = std::find_if(entity_->fields.begin(), entity_->fields.end(),
                                    [&](const Field& each) { return each.name == name; });
    return found == entity_->fields.end() ? nullptr : &*found;
  }
  [[nodiscard]] const Type& axis_of(const Type& type) const {
    return type.kind == TypeKind::vec      ? type.element.front()
           : type.kind == TypeKind::record ? protocol_.records[type.index].fields.front().type
                                           : type;
  }
  // 0: it has none.
  static double step_of(const Type& type) {
    if (type.kind == TypeKind::integer) return 1;
    return type.kind == TypeKind::real ? type.real.value_of(1) - type.real.value_of(0) : 0;
  }
  void add(const Field& field, std::string text) {
    found_.push_back({entity_->name, field.name, std::move(text)});
  }

  const schema::Protocol& protocol_;
  const Plan& plan_;
  const schema::Entity* entity_ = nullptr;
  double changing_ = 0;
  std::vector<Advice> found_;
};

}  // namespace

std::vector<Advice> advice_for(const schema::Protocol& protocol, const Plan& plan) {
  return Adviser(protocol, plan).advice();
}

}  // namespace kwind::budget
