// Edit distance (Wagner and Fischer, 1974) with transpositions, to guess which name was meant.
#include "kwind/bits/nearest.h"

#include <algorithm>
#include <vector>

namespace kwind::bits {
namespace {

// Optimal string alignment distance, row by row.
std::size_t distance(std::string_view a, std::string_view b) {
  std::vector<std::size_t> before(b.size() + 1);
  std::vector<std::size_t> last(b.size() + 1);
  std::vector<std::size_t> row(b.size() + 1);
  for (std::size_t j = 0; j <= b.size(); ++j) last[j] = j;
  for (std::size_t i = 1; i <= a.size(); ++i) {
    row[0] = i;
    for (std::size_t j = 1; j <= b.size(); ++j) {
      const std::size_t replace = last[j - 1] + (a[i - 1] == b[j - 1] ? 0 : 1);
      row[j] = std::min({last[j] + 1, row[j - 1] + 1, replace});
      if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1]) {
        row[j] = std::min(row[j], before[j - 2] + 1);
      }
    }
    std::swap(before, last);
    std::swap(last, row);
  }
  return last[b.size()];
}

}  // namespace

// The candidate with the smallest edit distance, if it is near enough to be a slip.
std::string nearest(std::string_view name, std::span<const std::string> candidates) {
  if (name.size() > 64) return "";
  std::size_t best = std::max<std::size_t>(1, name.size() / 3) + 1;
  std::string found;
  for (const std::string& candidate : candidates) {
    if (candidate.size() > 64) continue;
    const std::size_t d = distance(name, candidate);
    if (d < best) {
      best = d;
      found = candidate;
    }
  }
  return found;
}

}  // namespace kwind::bits
