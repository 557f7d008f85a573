// How large the parts of a description may be. The reasons stand beside the numbers.
#pragma once
#include <cstddef>
#include <cstdint>

namespace kwind::language::limits {

inline constexpr std::int64_t kMostVersion = 60000;  // below schema::kNewest
inline constexpr std::size_t kMostChannels = 16;     // as the link has
inline constexpr std::size_t kMostMessages = 1024;
inline constexpr std::size_t kMostValues = 1024;
inline constexpr std::size_t kMostFlags = 64;           // one word of a runtime value
inline constexpr std::int64_t kMostItems = 65535;       // texts, bytes, lists
inline constexpr std::int64_t kMostCount = 4294967295;  // what the Exp-Golomb code carries
inline constexpr std::int64_t kMostEntities = 1 << 20;
inline constexpr std::int64_t kMostPeers = 65536;
inline constexpr std::int64_t kMostRepeat = 8;
inline constexpr std::int64_t kMostRate = 10000;
inline constexpr std::int64_t kMostSide = 1024;                      // of a grid
inline constexpr std::int64_t kMostGrid = 65536;                     // cells
inline constexpr std::uint64_t kMostCells = std::uint64_t{1} << 31;  // values of one cell
inline constexpr std::uint64_t kMostLeaves = 10000;  // fields with all records spelled out
inline constexpr std::size_t kDeepestRecords = 16;
inline constexpr std::uint32_t kRefusalBytes = 120;  // the text of a refused request
inline constexpr std::size_t kMostEntityBytes = std::size_t{1} << 20;

}  // namespace kwind::language::limits
