// System calls that fail on demand, in programs that link failing_calls.cpp: its functions stand in
// for those of the C library. Only threads that asked for it are affected.
#pragma once
#include <array>
#include <chrono>
#include <cstdint>

namespace kwind::kit {

enum class SystemCall : std::uint8_t { none, send, receive, wait, accept };
inline constexpr std::array kSystemCalls{SystemCall::send, SystemCall::receive, SystemCall::wait,
                                         SystemCall::accept};

/// Whether the calling thread's system calls fail when fail_calls() says so.
void let_calls_fail(bool fail);

/// From now on these calls fail with `error`, an errno; SystemCall::none: none do. Any thread.
void fail_calls(SystemCall call, int error);

/// How many calls failed so far.
std::uint64_t failed_calls();

/// Moves the wall clock of all threads; steady clocks go on.
void shift_wall_clock(std::chrono::seconds by);

}  // namespace kwind::kit
