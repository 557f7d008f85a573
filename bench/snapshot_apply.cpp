// Applies recorded snapshots of tests/web/quay.kw, as web/bench/snapshots.ts records them, and says
// how long one takes: the C++ figure beside that of the TypeScript client. Usage:
// kwind_snapshot_apply FILE; the file has for each snapshot its bits (32, low byte first), and the
// bytes.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <fstream>
#include <iterator>
#include <vector>

#include "kwind/replica/client_world.h"
#include "quay.h"

int main(int argc, char** argv) {
  if (argc < 2) {
    fmt::print(stderr, "usage: kwind_snapshot_apply FILE\n");
    return 2;
  }
  std::ifstream in(argv[1], std::ios::binary);
  const std::string text(std::istreambuf_iterator<char>(in), {});
  struct Snapshot {
    std::vector<std::byte> bytes;
    std::size_t bits;
  };
  std::vector<Snapshot> all;
  for (std::size_t at = 0; at + 4 <= text.size();) {
    std::size_t bits = 0;
    for (std::size_t i = 0; i < 4; ++i) {
      bits |= std::size_t{static_cast<unsigned char>(text[at + i])} << (8 * i);
    }
    const std::size_t size = (bits + 7) / 8;
    at += 4;
    if (at + size > text.size()) break;
    const auto* first = reinterpret_cast<const std::byte*>(text.data()) + at;
    all.push_back({{first, first + size}, bits});
    at += size;
  }
  std::vector<double> rounds;
  std::size_t refused = 0;
  for (int round = 0; round < 30; ++round) {
    kwind::replica::ClientWorld world(quay::kEntities, 20);
    const auto begin = std::chrono::steady_clock::now();
    for (const Snapshot& each : all) {
      if (world.receive(each.bytes, each.bits) != kwind::Errc::none) ++refused;
      (void)world.take_events();
    }
    const std::chrono::duration<double, std::micro> took = std::chrono::steady_clock::now() - begin;
    rounds.push_back(took.count() / static_cast<double>(all.size()));
  }
  std::sort(rounds.begin(), rounds.end());
  fmt::print("C++: {} snapshots, {} refused, {:.2f} us each median, {:.2f} worst round\n",
             all.size(), refused, rounds[rounds.size() / 2], rounds.back());
}
