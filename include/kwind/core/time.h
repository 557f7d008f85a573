// Time as protocol code sees it: a value handed in by the caller, never read from a clock.
// No neighbours; safe anywhere.
#pragma once
#include <chrono>

namespace kwind {

/// Has no now(): protocol code cannot read a clock even by accident.
struct WireClock {};
/// Nanoseconds.
using Duration = std::chrono::nanoseconds;
/// Nanoseconds since an arbitrary start; only differences mean something.
using Time = std::chrono::time_point<WireClock, Duration>;
/// "No wake-up wanted". Do not add to it.
inline constexpr Time kNever = Time::max();

}  // namespace kwind
