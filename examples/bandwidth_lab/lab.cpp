#include "lab.h"

#include <algorithm>
#include <memory>
#include <random>

namespace lab {
namespace {

using kwind::replica::Mirror;
using kwind::replica::Viewer;
using kwind::replica::World;

struct Frame {
  int due;
  std::vector<std::byte> bytes;
  std::size_t bits;
  std::uint64_t token;
};
struct Fate {
  int due;
  std::uint64_t token;
  bool arrived;
};

struct Client {
  Client(const World& world, const kwind::schema::EntitiesInfo& entities, const Run& run)
      : viewer(world), mirror(entities, 20, run.codes) {
    viewer.count_into(run.tally);
  }
  Viewer viewer;
  Mirror mirror;
  std::vector<Frame> frames;
  std::vector<Fate> fates;
  std::vector<std::uint64_t> unheard;  // acks that were lost ride on the next datagram
};

template <class T, class Take>
void take_due(std::vector<T>& all, int now, const Take& take) {
  for (std::size_t i = 0; i < all.size();) {
    if (all[i].due > now) {
      ++i;
      continue;
    }
    const T one = std::move(all[i]);
    all.erase(all.begin() + static_cast<std::ptrdiff_t>(i));
    take(one);
  }
}

double mean(const std::vector<double>& values) {
  double sum = 0;
  for (const double value : values) sum += value;
  return values.empty() ? 0 : sum / static_cast<double>(values.size());
}

}  // namespace

Measured measure(World& world, const kwind::schema::EntitiesInfo& entities, Motion& motion,
                 const Run& run) {
  std::mt19937_64 random(run.seed);
  const Path& path = run.path;
  const auto lost = [&] {
    return std::uniform_real_distribution<double>(0, 1)(random) < path.loss;
  };
  std::vector<std::unique_ptr<Client>> all;
  for (std::size_t i = 0; i < run.clients; ++i) {
    all.push_back(std::make_unique<Client>(world, entities, run));
  }
  std::map<std::uint32_t, std::map<std::uint32_t, std::vector<std::byte>>> history;  // by id, tick
  std::vector<double> bytes;
  std::vector<double> in_view;
  std::vector<double> changed;
  std::vector<double> json_view;
  std::vector<double> json_changed;
  std::size_t frames = 0;
  Measured result;
  const int one_way = path.round_trip_ticks / 2;
  for (int now = 0; now < run.warm_up + run.ticks; ++now) {
    const bool counts = now >= run.warm_up;
    motion.step(world);
    const std::uint32_t tick = world.tick();
    world.end_tick();
    std::map<std::uint32_t, std::pair<bool, std::size_t>> sizes;  // changed, JSON; of those in view
    for (std::size_t i = 0; i < all.size(); ++i) {
      Client& client = *all[i];
      const auto view = motion.view(i);
      double json = 0;
      double json_new = 0;
      double moved = 0;
      for (const auto& seen : view) {
        auto [size, fresh] = sizes.try_emplace(seen.id);
        if (fresh) {
          auto& was = history[seen.id];
          auto now_bits = motion.bits(seen.id);
          const bool same = !was.empty() && was.rbegin()->second == now_bits;
          if (!same) was[tick] = std::move(now_bits);
          size->second = {!same, counts ? motion.json(seen.id).size() + 1 : 0};
        }
        json += static_cast<double>(size->second.second);
        json_new += size->second.first ? static_cast<double>(size->second.second) : 0;
        moved += size->second.first ? 1 : 0;
      }
      client.viewer.see(view);
      std::vector<std::byte> memory(1100);
      double sent = 0;
      for (int part = 0; part < 4; ++part) {
        kwind::bits::Writer out(memory);
        const auto token = client.viewer.fill({}, out);
        if (!token) break;
        const std::size_t size = out.finish();
        sent += static_cast<double>(size);
        frames += counts ? 1 : 0;
        if (lost()) {
          client.fates.push_back({now + path.round_trip_ticks + 2, *token, false});
        } else {
          client.frames.push_back(
              {now + one_way,
               {memory.begin(), memory.begin() + static_cast<std::ptrdiff_t>(size)},
               out.bit_count(),
               *token});
        }
      }
      take_due(client.frames, now, [&](const Frame& frame) {
        if (client.mirror.receive(frame.bytes, frame.bits) == kwind::Errc::none) {
          client.unheard.push_back(frame.token);
        }
      });
      if (!lost()) {
        for (const std::uint64_t token : client.unheard) {
          client.fates.push_back({now + path.round_trip_ticks - one_way, token, true});
        }
        client.unheard.clear();
      }
      take_due(client.fates, now, [&](const Fate& fate) {
        if (fate.arrived) {
          client.viewer.acked(fate.token);
        } else {
          client.viewer.lost(fate.token);
        }
      });
      for (const auto& ref : client.mirror.entities()) {
        const auto& was = history[ref.id];
        auto then = was.upper_bound(client.mirror.told_at(ref));
        ++result.checked;
        if (then == was.begin() || motion.held(client.mirror, ref) != (--then)->second)
          ++result.wrong;
      }
      if (!counts) continue;
      bytes.push_back(sent);
      in_view.push_back(static_cast<double>(view.size()));
      changed.push_back(moved);
      json_view.push_back(json);
      json_changed.push_back(json_new);
    }
  }
  result.mean = mean(bytes);
  std::sort(bytes.begin(), bytes.end());
  result.p95 = bytes[bytes.size() * 95 / 100];
  result.in_view = mean(in_view);
  result.changed = mean(changed);
  result.json_view = mean(json_view);
  result.json_changed = mean(json_changed);
  result.datagrams = static_cast<double>(frames) / static_cast<double>(bytes.size());
  return result;
}

}  // namespace lab
