// What a replicated world has put, tick by tick: the model that a walk over the world is held
// against.
#pragma once
#include <algorithm>
#include <array>
#include <map>
#include <optional>
#include <stdexcept>
#include <string>
#include <utility>
#include <vector>

#include "kit/any_entity.h"
#include "kwind/language/compile.h"
#include "kwind/schema/runtime.h"

namespace kwind::language {
namespace world_walk_test {

using kit::AnyEntity;
using schema::Value;
using Bits = std::pair<std::size_t, std::vector<std::byte>>;  // how many, and they

struct Wrong : std::runtime_error {
  using std::runtime_error::runtime_error;
};
inline void require(bool right, const std::string& text) {
  if (!right) throw Wrong(text);
}

// What the world has put, tick by tick.
class Model {
 public:
  explicit Model(const schema::Protocol& protocol) : protocol_(protocol), tables_(protocol) {}

  struct One {
    schema::AnyRef ref;
    std::size_t kind;
    Value value;
    std::uint32_t room = 0;
  };
  [[nodiscard]] const schema::Protocol& protocol() const { return protocol_; }
  [[nodiscard]] const schema::EntitiesInfo& infos() const { return tables_.info(); }
  void choose(std::size_t kind) const { AnyEntity::choose(protocol_, infos(), kind); }
  [[nodiscard]] const std::vector<schema::Field>& fields(std::size_t kind) const {
    return protocol_.entities[kind].fields;
  }
  std::map<std::uint32_t, One>& all() { return all_; }
  [[nodiscard]] const std::map<std::uint32_t, One>& all() const { return all_; }

  void note(std::uint32_t tick) {
    for (const auto& [id, one] : all_) history_[key(one.ref)][tick] = one.value;
  }
  [[nodiscard]] const Value* at(schema::AnyRef ref, std::uint32_t tick) const {
    const auto found = history_.find(key(ref));
    if (found == history_.end()) return nullptr;
    const auto row = found->second.find(tick);
    return row == found->second.end() ? nullptr : &row->second;
  }
  [[nodiscard]] const std::map<std::uint32_t, Value>& rows(schema::AnyRef ref) const {
    return history_.at(key(ref));
  }
  // The fields that a view shows, as they travel in a version; all of them, or all but the motion.
  struct Shown {
    schema::View view = schema::View::others;
    std::uint16_t version = schema::kNewest;
    bool all = true;
  };
  [[nodiscard]] Bits bits_of(std::size_t kind, const Value& value, const Shown& who) const {
    std::vector<schema::Field> shown;
    Value part;
    for (std::size_t i = 0; i < fields(kind).size(); ++i) {
      const schema::Field& field = fields(kind)[i];
      if (!field.travels(who.version)) continue;
      if (field.words.owner_only && who.view == schema::View::others) continue;
      if (!who.all && is_motion(kind, field)) continue;
      shown.push_back(field);
      part.items.push_back(value.items[i]);
    }
    schema::Encoder out(bits::Writer(scratch_), bits::Policy::clamp, who.version,
                        schema::View::owner);
    encode_value(protocol_, shown, part, out);
    require(out.error() == Errc::none, "a value does not fit");
    const std::size_t size = out.bit_count();
    const auto bytes = static_cast<std::ptrdiff_t>(out.finish());
    return {size, {scratch_.begin(), scratch_.begin() + bytes}};
  }
  // A field that follows others, or that is followed: what is extrapolated, and may have a
  // tolerance.
  [[nodiscard]] bool is_motion(std::size_t kind, const schema::Field& field) const {
    return std::any_of(fields(kind).begin(), fields(kind).end(), [&](const schema::Field& each) {
      return each.words.follow &&
             (each.name == field.name || each.words.follow->speed == field.name ||
              each.words.follow->along == field.name);
    });
  }
  // Where an entity is, if its kind says so. On a plane it has no height: it is seen from any.
  struct Place {
    double x = 0;
    double y = 0;
    std::optional<double> z{};
  };
  [[nodiscard]] std::optional<Place> place(const One& one) const {
    for (std::size_t i = 0; i < fields(one.kind).size(); ++i) {
      if (fields(one.kind)[i].name != "at") continue;
      const Value& at = one.value.items[i];
      Place made{at.items[0].real, at.items[1].real};
      if (at.items.size() > 2) made.z = at.items[2].real;
      return made;
    }
    return std::nullopt;
  }

  // The carrier of an entity, while it lives; `is_named`: whether the entity names one.
  struct Carrier {
    bool is_named = false;
    const One* one = nullptr;
  };
  [[nodiscard]] Carrier carrier(const One& one) const {
    for (const schema::Field& field : fields(one.kind)) {
      if (field.words.relative_to.empty()) continue;
      for (std::size_t i = 0; i < fields(one.kind).size(); ++i) {
        if (fields(one.kind)[i].name != field.words.relative_to) continue;
        const auto number = static_cast<std::uint64_t>(one.value.items[i].whole);
        const auto found = all_.find(static_cast<std::uint32_t>(number));
        const bool lives = found != all_.end() && found->second.ref.generation == number >> 32;
        return {number != 0, lives ? &found->second : nullptr};
      }
    }
    return {};
  }
  // In the world: with the place of its carrier, which has no carrier itself.
  [[nodiscard]] std::optional<Place> world_position(const One& one) const {
    std::optional<Place> made = place(one);
    const Carrier on = carrier(one);
    if (!made || !on.is_named) return made;
    const std::optional<Place> base = on.one != nullptr ? place(*on.one) : std::nullopt;
    if (!base) return std::nullopt;
    return Place{made->x + base->x, made->y + base->y};
  }
  [[nodiscard]] bool carries(const One& one) const {
    return std::any_of(all_.begin(), all_.end(),
                       [&](const auto& each) { return carrier(each.second).one == &one; });
  }

 private:
  static std::uint64_t key(schema::AnyRef ref) {
    return std::uint64_t{ref.generation} << 32 | ref.id;
  }
  const schema::Protocol& protocol_;
  schema::EntityTables tables_;
  mutable std::vector<std::byte> scratch_ = std::vector<std::byte>(1 << 16);
  std::map<std::uint32_t, One> all_;
  std::map<std::uint64_t, std::map<std::uint32_t, Value>> history_;
};

}  // namespace world_walk_test
}  // namespace kwind::language
