// How large the parts of a description may be. The reasons stand beside the numbers.
#pragma once
#include <cstddef>
#include <cstdint>

namespace kwind::language::limits {

inline constexpr std::int64_t kMaxVersion = 60000;  // below schema::kNewest
inline constexpr std::size_t kMaxChannels = 16;     // as the link has
inline constexpr std::size_t kMaxMessages = 1024;
inline constexpr std::size_t kMaxValues = 1024;
inline constexpr std::size_t kMaxFlags = 64;           // one word of a runtime value
inline constexpr std::int64_t kMaxItems = 65535;       // texts, bytes, lists
inline constexpr std::int64_t kMaxCount = 4294967295;  // what the Exp-Golomb code carries
inline constexpr std::int64_t kMaxEntities = 1 << 20;
inline constexpr std::int64_t kMaxPeers = 65536;
inline constexpr std::int64_t kMaxRepeat = 8;
inline constexpr std::int64_t kMaxRate = 10000;
inline constexpr std::int64_t kMaxSide = 1024;                      // of a grid
inline constexpr std::int64_t kMaxGrid = 65536;                     // cells
inline constexpr std::uint64_t kMaxCells = std::uint64_t{1} << 31;  // values of one cell
inline constexpr std::uint64_t kMaxLeaves = 10000;  // fields with all records spelled out
inline constexpr std::size_t kDeepestRecords = 16;
inline constexpr std::uint32_t kRefusalBytes = 120;  // the text of a refused request
inline constexpr std::size_t kMaxEntityBytes = std::size_t{1} << 20;

}  // namespace kwind::language::limits
