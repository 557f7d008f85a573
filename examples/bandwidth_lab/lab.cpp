#include "lab.h"

#include <zstd.h>

#include <algorithm>
#include <memory>
#include <random>

namespace lab {
namespace {

using kwind::replica::ClientReplicator;
using kwind::replica::ClientWorld;
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

// A stream of zstd, as a connection with compression has one.
class Zstd {
 public:
  std::size_t flushed(const std::string& text) {
    std::vector<char> room(ZSTD_compressBound(text.size()) + 64);
    ZSTD_outBuffer out{room.data(), room.size(), 0};
    ZSTD_inBuffer in{text.data(), text.size(), 0};
    while (ZSTD_compressStream2(context_.get(), &out, &in, ZSTD_e_flush) > 0) {
    }
    return out.pos;
  }

 private:
  struct Free {
    void operator()(ZSTD_CCtx* context) const { ZSTD_freeCCtx(context); }
  };
  std::unique_ptr<ZSTD_CCtx, Free> context_{ZSTD_createCCtx()};
};

struct Client {
  Client(const World& world, const kwind::schema::EntitiesInfo& entities, const Run& run)
      : replicator(world, run.replicator), client_world(entities, 20, run.codes) {}
  Zstd zstd;
  ClientReplicator replicator;
  ClientWorld client_world;
  std::vector<Frame> frames;
  std::vector<Fate> fates;
  std::vector<std::uint64_t> unhandled;  // acks that were lost ride on the next datagram
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
  std::vector<double> zstd;
  std::size_t frames = 0;
  kwind::replica::SymbolCounts counted(entities);
  Measured result;
  const int one_way = path.round_trip_ticks / 2;
  for (int now = 0; now < run.warm_up + run.ticks; ++now) {
    const bool counts = now >= run.warm_up;
    motion.step(world);
    const std::uint32_t tick = world.tick();
    world.end_tick();
    // Changed, JSON text; of those in view.
    std::map<std::uint32_t, std::pair<bool, std::string>> sizes;
    for (const std::uint32_t id : motion.ids()) {
      auto& was = history[id];
      auto now_bits = motion.bits(id);
      if (was.empty() || was.rbegin()->second != now_bits) was[tick] = std::move(now_bits);
    }
    for (std::size_t i = 0; i < all.size(); ++i) {
      Client& client = *all[i];
      const auto view = motion.view(i);
      double json = 0;
      double json_new = 0;
      double moved = 0;
      std::string changes;
      for (const auto& seen : view) {
        auto [size, fresh] = sizes.try_emplace(seen.id);
        if (fresh) {
          const bool changes_now = history[seen.id].rbegin()->first == tick;
          size->second = {changes_now, run.text ? motion.json(seen.id) + "," : ""};
        }
        const auto& [change, text] = size->second;
        json += static_cast<double>(text.size());
        if (!change) continue;
        json_new += static_cast<double>(text.size());
        changes += text;
        moved += 1;
      }
      // The stream runs from the start on: it learns as long as the codes' clients do.
      const double streamed = run.text ? static_cast<double>(client.zstd.flushed(changes)) : 0;
      if (counts) zstd.push_back(streamed);
      client.replicator.count_into(counts ? &counted : nullptr);
      client.replicator.see(view);
      std::vector<std::byte> memory(1100);
      double sent = 0;
      for (int part = 0; part < 4; ++part) {
        kwind::bits::Writer out(memory);
        const auto token = client.replicator.fill({}, out);
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
        if (client.client_world.receive(frame.bytes, frame.bits) == kwind::Errc::none) {
          client.unhandled.push_back(frame.token);
        }
      });
      if (!lost()) {
        for (const std::uint64_t token : client.unhandled) {
          client.fates.push_back({now + path.round_trip_ticks - one_way, token, true});
        }
        client.unhandled.clear();
      }
      take_due(client.fates, now, [&](const Fate& fate) {
        if (fate.arrived) {
          client.replicator.acked(fate.token);
        } else {
          client.replicator.lost(fate.token);
        }
      });
      for (const auto& ref : client.client_world.entities()) {
        const auto& was = history[ref.id];
        auto then = was.upper_bound(client.client_world.state_tick(ref));
        ++result.checked;
        if (then == was.begin() || motion.held(client.client_world, ref) != (--then)->second)
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
  // What is not a symbol stays as it is, the last byte's filling included.
  double saved = 0;
  const auto codes = run.codes != nullptr ? run.codes : kwind::replica::built_in_codes(entities);
  for (const auto& cost : kwind::replica::costs_of(counted, *codes))
    saved += cost.bits - cost.floor;
  result.entropy = result.mean - saved / 8 / static_cast<double>(bytes.size());
  std::uint64_t discarded = 0;
  std::uint64_t made = 0;
  for (const auto& client : all) {
    discarded += client->replicator.counts().discarded;
    made += client->replicator.counts().snapshots;
  }
  result.unusable = static_cast<double>(discarded) / static_cast<double>(made);
  result.zstd = mean(zstd);
  if (run.symbol_counts != nullptr) *run.symbol_counts = counted;
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
