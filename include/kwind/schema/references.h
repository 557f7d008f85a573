// Values that name an entity: what `ref T` becomes in C++. Plain values; safe anywhere.
#pragma once
#include <cstdint>

namespace kwind::schema {

/// Generations distinguish successive entities of one id.
inline constexpr std::uint32_t kGenerations = 16;

/// An entity by its id and generation, or none. `Entity` only keeps refs to different kinds apart.
template <class Entity>
struct Ref {
  std::uint32_t id = 0;         ///< 1 to the protocol's `entities up to N`; 0: none
  std::uint8_t generation = 0;  ///< below kGenerations; 0 for none

  explicit operator bool() const { return id != 0; }
  friend bool operator==(const Ref&, const Ref&) = default;
};

/// An entity whatever its kind: ids are those of the whole protocol.
struct AnyRef {
  std::uint32_t id = 0;
  std::uint8_t generation = 0;

  constexpr AnyRef() = default;
  constexpr AnyRef(std::uint32_t number, std::uint8_t user) : id(number), generation(user) {}
  template <class Entity>
  constexpr AnyRef(const Ref<Entity>& ref)  // NOLINT: a ref of a kind is a ref
      : id(ref.id), generation(ref.generation) {}
  explicit operator bool() const { return id != 0; }
  friend bool operator==(const AnyRef&, const AnyRef&) = default;
};

/// The entity that the number of a reference stands for, as it travels (docs/schema-language.md).
constexpr AnyRef reference_of(std::uint32_t number) {
  if (number == 0) return {};
  return {1 + (number - 1) / kGenerations, static_cast<std::uint8_t>((number - 1) % kGenerations)};
}

}  // namespace kwind::schema
