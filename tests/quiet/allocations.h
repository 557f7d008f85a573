// What the operator new of this program counts; quiet_test.cpp replaces it.
#pragma once
#include <cstddef>

namespace kwind::quiet {

inline std::size_t allocations = 0;
inline std::size_t allocated_bytes = 0;

}  // namespace kwind::quiet
