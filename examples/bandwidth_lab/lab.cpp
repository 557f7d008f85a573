// The laboratory for bytes of state: one server and several clients in virtual time over simulated
// paths. Every value at every client is compared with the server's; bytes count only if all are
// right.
#include "lab.h"

#include <zstd.h>

#include <algorithm>
#include <cmath>
#include <memory>
#include <random>
#include <set>

namespace lab {
namespace {

using kwind::replica::ClientReplicator;
using kwind::replica::ClientWorld;
using kwind::replica::World;

// A snapshot in flight: due in a tick, with the token by which the replicator hears of its fate.
struct Frame {
  int due;
  std::vector<std::byte> bytes;
  std::size_t bits;
  std::uint64_t token;
};
// What became of a snapshot, when the server hears of it.
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

// What a game's first hand-written codec takes: bytes of a snapshot of what is in view, for who has
// what was in view at `base`.
using SimpleState = std::map<std::uint32_t, ColumnValues>;

double simple_bytes(const Motion& motion, const SimpleState& base, const SimpleState& now) {
  double bits = 16 + 8 + 1;  // tick, base, end
  std::uint32_t last = 0;
  const auto name = [&](std::uint32_t id) {
    bits += 1 + 2 + kwind::bits::count_bits(id - last, 4);  // another one, what of it, who
    last = id;
  };
  for (const auto& [id, value] : now) {
    const auto before = base.find(id);
    const bool arrives = before == base.end();
    if (!arrives && before->second == value) continue;
    name(id);
    if (arrives) bits += 4;  // what it is
    const auto columns = motion.kind(id).columns;
    for (std::size_t c = 0; c < columns.size(); ++c) {
      const unsigned whole = value.bits[c];
      if (arrives) {
        bits += whole;
        continue;
      }
      if (columns[c].at_spawn) continue;
      bits += 1;
      if (before->second.numbers[c] == value.numbers[c]) continue;
      if (!value.has_order[c]) {
        bits += whole;
        continue;
      }
      auto way = std::int64_t{value.numbers[c]} - std::int64_t{before->second.numbers[c]};
      const auto turn = std::int64_t{columns[c].last} + 1;
      if (columns[c].form == kwind::schema::ColumnForm::circular) {
        if (way > turn / 2) way -= turn;
        if (way < -turn / 2) way += turn;
      }
      const auto folded = static_cast<std::uint64_t>(way < 0 ? -2 * way - 1 : 2 * way);
      bits += 1 + std::min(whole, kwind::bits::count_bits(folded, 3));
    }
  }
  for (const auto& [id, value] : base) bits += now.contains(id) ? 0 : 1 + 2 + 8;
  return std::ceil(bits / 8);
}

// One client: the server's half, its own half, and what is in flight between them.
struct Client {
  Client(const World& world, const kwind::schema::EntitiesInfo& entities, const Run& run)
      : replicator(world, run.replicator),
        client_world(entities, run.path.ticks_per_second, run.codes) {}
  Zstd zstd;
  ClientReplicator replicator;
  ClientWorld client_world;
  std::vector<Frame> frames;
  std::vector<Fate> fates;
  std::vector<std::uint64_t> unacknowledged;  // acks that were lost ride on the next datagram
  // By tick: who was in view, whether as its owner, and since when; columns of these.
  struct Seen {
    bool owner = false;
    std::uint32_t since = 0;
  };
  std::map<std::uint32_t, std::map<std::uint32_t, Seen>> views;
  std::map<std::uint32_t, SimpleState> simple_states;
  std::vector<Fate> simple_fates;
  std::uint32_t simple_base = 0;  // tick of the newest state known to have arrived; 0: none
  std::uint32_t shown = 0;        // tick of the newest snapshot
};

// Takes out what is due, in the order in which it was sent.
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

// Each tick: the world moves; each client is sent its snapshots over a path with delay and loss;
// snapshots that are due arrive; acknowledgements that are due reach the server; values at clients
// are compared with those of the tick that they show.
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
  // Bits by id, whether for the owner, and tick.
  using Past = std::map<std::uint32_t, std::vector<std::byte>>;
  std::map<std::pair<std::uint32_t, bool>, Past> history;
  std::vector<double> simple;
  std::vector<int> ages;
  std::vector<double> bytes;
  std::vector<double> in_view;
  std::vector<double> changed;
  std::vector<double> json_view;
  std::vector<double> json_changed;
  std::vector<double> zstd;
  std::size_t frames = 0;
  kwind::replica::SymbolCounts counted(entities);
  if (run.codes != nullptr) counted.predict_with(*run.codes);
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
      for (const bool owner : {false, true}) {
        auto& was = history[{id, owner}];
        auto now_bits = motion.bits(id, owner);
        if (was.empty() || was.rbegin()->second != now_bits) was[tick] = std::move(now_bits);
      }
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
          const bool changes_now = history[{seen.id, seen.owner}].rbegin()->first == tick;
          size->second = {changes_now, run.text ? motion.json(seen.id) + "," : ""};
        }
        const auto& [change, text] = size->second;
        json += static_cast<double>(text.size());
        if (!change) continue;
        json_new += static_cast<double>(text.size());
        changes += text;
        moved += 1;
      }
      auto& seen_now = client.views[tick];
      const auto before = client.views.find(tick - 1);
      SimpleState& simple_now = client.simple_states[tick];
      for (const auto& seen : view) {
        std::uint32_t since = tick;
        if (before != client.views.end()) {
          const auto was = before->second.find(seen.id);
          if (was != before->second.end()) since = was->second.since;
        }
        seen_now[seen.id] = {seen.owner, since};
        simple_now[seen.id] = motion.columns(seen.id, seen.owner);
      }
      take_due(client.simple_fates, now, [&](const Fate& fate) {
        client.simple_base = std::max(client.simple_base, static_cast<std::uint32_t>(fate.token));
      });
      const double simple_size =
          simple_bytes(motion, client.simple_states[client.simple_base], simple_now);
      if (counts) simple.push_back(simple_size);
      if (!lost() && !lost()) {
        client.simple_fates.push_back({now + path.round_trip_ticks, tick, true});
      }
      while (client.simple_states.size() > 80 &&
             client.simple_states.begin()->first < client.simple_base) {
        client.simple_states.erase(client.simple_states.begin());
        client.views.erase(client.views.begin());
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
          client.unacknowledged.push_back(frame.token);
        }
      });
      if (!lost()) {
        for (const std::uint64_t token : client.unacknowledged) {
          client.fates.push_back({now + path.round_trip_ticks - one_way, token, true});
        }
        client.unacknowledged.clear();
      }
      take_due(client.fates, now, [&](const Fate& fate) {
        if (fate.arrived) {
          client.replicator.acked(fate.token);
        } else {
          client.replicator.lost(fate.token);
        }
      });
      if (run.exact) {
        std::map<std::uint32_t, std::vector<std::byte>> held;
        const std::uint32_t shown = client.client_world.tick();
        const bool newer = shown > std::exchange(client.shown, shown);
        for (const auto& ref : client.client_world.entities()) {
          const bool owner = client.client_world.owns(ref);
          const Past& was = history[{ref.id, owner}];
          auto then = was.upper_bound(client.client_world.state_tick(ref));
          auto here = motion.held(client.client_world, ref);
          ++result.checked;
          if (then == was.begin() || here != (--then)->second) ++result.wrong;
          held.emplace(ref.id, std::move(here));
        }
        if (newer && counts) {
          for (const auto& [id, seen] : client.views[shown]) {
            // The last tick in which the value shown was the server's.
            const Past& was = history[{id, seen.owner}];
            const auto here = held.find(id);
            auto value = was.upper_bound(shown);
            std::uint32_t right = seen.since - 1;
            for (std::uint32_t until = shown; value != was.begin();) {
              --value;
              if (here != held.end() && value->second == here->second) {
                right = std::max(right, until);
                break;
              }
              until = value->first - 1;
              if (until < seen.since) break;
            }
            ages.push_back(static_cast<int>(shown - right));
          }
        }
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
  result.simple = mean(simple);
  std::sort(ages.begin(), ages.end());
  if (!ages.empty()) {
    const auto fresh = std::upper_bound(ages.begin(), ages.end(), 0) - ages.begin();
    result.stale = 1 - static_cast<double>(fresh) / static_cast<double>(ages.size());
    result.age_p99 = ages[ages.size() * 99 / 100];
    result.age_worst = ages.back();
  }
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
