// In which versions of a protocol a declaration exists. Plain values; safe anywhere.
#pragma once
#include <cstddef>
#include <cstdint>
#include <span>

#include "kwind/core/compiler.h"

namespace kwind::schema {

/// Stands for the newest version of a description, whatever its number.
inline constexpr std::uint16_t kNewest = 0xffff;

/// `since N` and `until N` of the description language.
struct KWIND_API Life {
  std::uint16_t since = 1;
  std::uint16_t until = 0;  ///< the first version without it; 0: none so far

  [[nodiscard]] constexpr bool alive(std::uint16_t version) const {
    return version >= since && (until == 0 || version < until);
  }
  [[nodiscard]] constexpr bool whole() const { return since <= 1 && until == 0; }
  friend constexpr bool operator==(const Life&, const Life&) = default;
};

/// One value of an enum, or case of a `one of`, that not every version knows.
struct Choice {
  Life life;
  std::uint16_t stand_in;  ///< place of its `else`; its own place if it needs none

  friend constexpr bool operator==(const Choice&, const Choice&) = default;
};

/// How many of the choices `version` knows: their codes are 0 to this less one. O(choices).
constexpr std::uint64_t choices_alive(std::span<const Choice> choices, std::uint16_t version) {
  std::uint64_t alive = 0;
  for (const Choice& choice : choices) alive += choice.life.alive(version) ? 1 : 0;
  return alive;
}

/// The place of what stands for `place` in `version`: itself if that version knows it.
/// The compiler of .kw files sees to it that the way ends. O(choices).
constexpr std::size_t choice_standing_for(std::span<const Choice> choices, std::uint16_t version,
                                          std::size_t place) {
  for (std::size_t hops = 0; hops < choices.size() && !choices[place].life.alive(version); ++hops) {
    place = choices[place].stand_in;
  }
  return place;
}

/// The code of a living choice: how many living ones stand before it. O(choices).
constexpr std::uint64_t code_of_choice(std::span<const Choice> choices, std::uint16_t version,
                                       std::size_t place) {
  return choices_alive(choices.first(place), version);
}

/// The place of the living choice with this code. Requires: code < choices_alive(). O(choices).
constexpr std::size_t choice_with_code(std::span<const Choice> choices, std::uint16_t version,
                                       std::uint64_t code) {
  for (std::size_t place = 0; place < choices.size(); ++place) {
    if (!choices[place].life.alive(version)) continue;
    if (code-- == 0) return place;
  }
  return 0;
}

}  // namespace kwind::schema
