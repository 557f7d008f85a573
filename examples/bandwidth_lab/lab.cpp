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

// A snapshot in flight: due in a tick, with the token by which its fate is reported to the
// replicator.
struct Frame {
  int due;
  std::vector<std::byte> bytes;
  std::size_t bits;
  std::uint64_t token;
};
// What became of a snapshot, due when the server learns it.
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
  Client(World& world, const kwind::schema::EntitiesInfo& entities, const Run& run)
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

// One measurement. Each tick: the world moves; each client is sent its snapshots over a path with
// delay and loss; snapshots that are due arrive; acknowledgements that are due reach the server;
// values at clients are compared with those of the tick that they show.
class Laboratory {
 public:
  Laboratory(World& world, const kwind::schema::EntitiesInfo& entities, Motion& motion,
             const Run& run)
      : world_(world),
        entities_(entities),
        motion_(motion),
        run_(run),
        path_(run.path),
        random_(run.seed),
        counted_(entities) {
    for (std::size_t i = 0; i < run.clients; ++i) {
      all_.push_back(std::make_unique<Client>(world, entities, run));
    }
    if (run.codes != nullptr) counted_.predict_with(*run.codes);
  }
  Measured measure() {
    for (int now = 0; now < warm_up() + run_.ticks; ++now) tick(now);
    return summed_up();
  }

 private:
  // Bits of an entity, by the tick in which they became so.
  using Past = std::map<std::uint32_t, std::vector<std::byte>>;
  // Of an entity in this tick: whether it changed, and its JSON text.
  using Texts = std::map<std::uint32_t, std::pair<bool, std::string>>;

  bool lost() { return std::uniform_real_distribution<double>(0, 1)(random_) < path_.loss; }

  void tick(int now) {
    counts_ = now >= warm_up();
    motion_.step(world_);
    tick_ = world_.tick();
    world_.end_tick();
    for (const std::uint32_t id : motion_.ids()) {
      for (const bool owner : {false, true}) {
        auto& was = history_[{id, owner}];
        auto now_bits = motion_.bits(id, owner);
        if (was.empty() || was.rbegin()->second != now_bits) was[tick_] = std::move(now_bits);
      }
    }
    Texts texts;
    for (std::size_t i = 0; i < all_.size(); ++i) {
      Client& client = *all_[i];
      const auto view = motion_.view(i);
      as_text(client, view, texts);
      by_simple_codec(client, view, now);
      send(client, view, now);
      hear(client, now);
      if (run_.exact) compare(client);
    }
  }

  // What is in view as JSON, and what of it changed, also through a stream of zstd.
  void as_text(Client& client, const std::vector<kwind::replica::RelevantEntity>& view,
               Texts& texts) {
    double json = 0;
    double json_new = 0;
    double moved = 0;
    std::string changes;
    for (const auto& seen : view) {
      auto [size, fresh] = texts.try_emplace(seen.id);
      if (fresh) {
        const bool changes_now = history_[{seen.id, seen.owner}].rbegin()->first == tick_;
        size->second = {changes_now, run_.text ? motion_.json(seen.id) + "," : ""};
      }
      const auto& [change, text] = size->second;
      json += static_cast<double>(text.size());
      if (!change) continue;
      json_new += static_cast<double>(text.size());
      changes += text;
      moved += 1;
    }
    // The stream runs from the start on: it learns as long as the codes' clients do.
    const double streamed = run_.text ? static_cast<double>(client.zstd.flushed(changes)) : 0;
    if (!counts_) return;
    zstd_.push_back(streamed);
    in_view_.push_back(static_cast<double>(view.size()));
    changed_.push_back(moved);
    json_view_.push_back(json);
    json_changed_.push_back(json_new);
  }

  // Notes what the client sees, and what the simple codec takes for it.
  void by_simple_codec(Client& client, const std::vector<kwind::replica::RelevantEntity>& view,
                       int now) {
    auto& seen_now = client.views[tick_];
    const auto before = client.views.find(tick_ - 1);
    SimpleState& simple_now = client.simple_states[tick_];
    for (const auto& seen : view) {
      std::uint32_t since = tick_;
      if (before != client.views.end()) {
        const auto was = before->second.find(seen.id);
        if (was != before->second.end()) since = was->second.since;
      }
      seen_now[seen.id] = {seen.owner, since};
      simple_now[seen.id] = motion_.columns(seen.id, seen.owner);
    }
    take_due(client.simple_fates, now, [&](const Fate& fate) {
      client.simple_base = std::max(client.simple_base, static_cast<std::uint32_t>(fate.token));
    });
    const double simple_size =
        simple_bytes(motion_, client.simple_states[client.simple_base], simple_now);
    if (counts_) simple_.push_back(simple_size);
    if (!lost() && !lost()) {
      client.simple_fates.push_back({now + path_.round_trip_ticks, tick_, true});
    }
    while (client.simple_states.size() > 80 &&
           client.simple_states.begin()->first < client.simple_base) {
      client.simple_states.erase(client.simple_states.begin());
      client.views.erase(client.views.begin());
    }
  }

  // At most four datagrams a tick. A loss is known two ticks later than an acknowledgement is.
  void send(Client& client, const std::vector<kwind::replica::RelevantEntity>& view, int now) {
    client.replicator.count_into(counts_ ? &counted_ : nullptr);
    client.replicator.see(view);
    std::vector<std::byte> memory(1100);
    double sent = 0;
    for (int part = 0; part < 4; ++part) {
      kwind::bits::Writer out(memory);
      const auto token = client.replicator.fill({}, out);
      if (!token) break;
      const std::size_t size = out.finish();
      sent += static_cast<double>(size);
      snapshots_ += counts_ ? 1 : 0;
      if (lost()) {
        client.fates.push_back({now + path_.round_trip_ticks + 2, *token, false});
      } else {
        client.frames.push_back(
            {now + one_way(),
             {memory.begin(), memory.begin() + static_cast<std::ptrdiff_t>(size)},
             out.bit_count(),
             *token});
      }
    }
    if (counts_) bytes_.push_back(sent);
  }

  // What is due arrives, at the client and then at the server.
  void hear(Client& client, int now) {
    take_due(client.frames, now, [&](const Frame& frame) {
      if (client.client_world.receive(frame.bytes, frame.bits) == kwind::Errc::none) {
        client.unacknowledged.push_back(frame.token);
      }
    });
    if (!lost()) {
      for (const std::uint64_t token : client.unacknowledged) {
        client.fates.push_back({now + path_.round_trip_ticks - one_way(), token, true});
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
  }

  // Every value that the client holds is one that the server had in that tick.
  void compare(Client& client) {
    std::map<std::uint32_t, std::vector<std::byte>> held;
    const std::uint32_t shown = client.client_world.tick();
    const bool newer = shown > std::exchange(client.shown, shown);
    for (const auto& ref : client.client_world.entities()) {
      const bool owner = client.client_world.owns(ref);
      const Past& was = history_[{ref.id, owner}];
      auto then = was.upper_bound(client.client_world.state_tick(ref));
      auto here = motion_.held(client.client_world, ref);
      ++result_.checked;
      if (then == was.begin() || here != (--then)->second) ++result_.wrong;
      held.emplace(ref.id, std::move(here));
    }
    if (newer && counts_) note_ages(client, shown, held);
  }

  // How many ticks older than the tick that is shown each value in view is.
  void note_ages(const Client& client, std::uint32_t shown,
                 const std::map<std::uint32_t, std::vector<std::byte>>& held) {
    const auto view = client.views.find(shown);
    if (view == client.views.end()) return;
    for (const auto& [id, seen] : view->second) {
      // The last tick in which the value shown was the server's.
      const Past& was = history_[{id, seen.owner}];
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
      ages_.push_back(static_cast<int>(shown - right));
    }
  }

  Measured summed_up() {
    result_.mean = mean(bytes_);
    result_.simple = mean(simple_);
    std::sort(ages_.begin(), ages_.end());
    if (!ages_.empty()) {
      const auto fresh = std::upper_bound(ages_.begin(), ages_.end(), 0) - ages_.begin();
      result_.stale = 1 - static_cast<double>(fresh) / static_cast<double>(ages_.size());
      result_.age_p99 = ages_[ages_.size() * 99 / 100];
      result_.age_worst = ages_.back();
    }
    // What is not a symbol stays as it is, the last byte's filling included.
    double saved = 0;
    const auto codes =
        run_.codes != nullptr ? run_.codes : kwind::replica::built_in_codes(entities_);
    for (const auto& cost : kwind::replica::costs_of(counted_, *codes))
      saved += cost.bits - cost.floor;
    result_.entropy = result_.mean - saved / 8 / static_cast<double>(bytes_.size());
    std::uint64_t discarded = 0;
    std::uint64_t made = 0;
    for (const auto& client : all_) {
      discarded += client->replicator.counts().discarded;
      made += client->replicator.counts().snapshots;
    }
    result_.unusable = static_cast<double>(discarded) / static_cast<double>(made);
    result_.zstd = mean(zstd_);
    if (run_.symbol_counts != nullptr) *run_.symbol_counts = counted_;
    std::sort(bytes_.begin(), bytes_.end());
    result_.p95 = bytes_[bytes_.size() * 95 / 100];
    result_.in_view = mean(in_view_);
    result_.changed = mean(changed_);
    result_.json_view = mean(json_view_);
    result_.json_changed = mean(json_changed_);
    result_.datagrams = static_cast<double>(snapshots_) / static_cast<double>(bytes_.size());
    return result_;
  }

  [[nodiscard]] int warm_up() const { return std::min(run_.warm_up, 5 * run_.ticks); }
  [[nodiscard]] int one_way() const { return path_.round_trip_ticks / 2; }

  World& world_;
  const kwind::schema::EntitiesInfo& entities_;
  Motion& motion_;
  const Run& run_;
  const Path& path_;
  std::mt19937_64 random_;
  std::vector<std::unique_ptr<Client>> all_;
  std::map<std::pair<std::uint32_t, bool>, Past> history_;  // by id, and whether for the owner
  std::uint32_t tick_ = 0;
  bool counts_ = false;  // the warm-up is over
  std::vector<double> simple_;
  std::vector<int> ages_;
  std::vector<double> bytes_;
  std::vector<double> in_view_;
  std::vector<double> changed_;
  std::vector<double> json_view_;
  std::vector<double> json_changed_;
  std::vector<double> zstd_;
  std::size_t snapshots_ = 0;
  kwind::replica::SymbolCounts counted_;
  Measured result_;
};

}  // namespace

Measured measure(World& world, const kwind::schema::EntitiesInfo& entities, Motion& motion,
                 const Run& run) {
  return Laboratory(world, entities, motion, run).measure();
}

}  // namespace lab
