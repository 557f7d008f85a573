// What a replicator has to send, the slow way: written from docs/state-format.md alone, with bits
// as text and everything found by looking through all that ever happened. For snapshots with room
// for everything, one a tick, without tolerances, digests and inputs.
#pragma once
#include <algorithm>
#include <cstdint>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "kit/slow_bits.h"
#include "kit/slow_prediction.h"
#include "kit/slow_row.h"
#include "kwind/replica/client_replicator.h"
#include "kwind/replica/code_tables.h"
#include "kwind/schema/entity_info.h"

namespace kwind::kit {

class SlowState : private SlowBits {
 public:
  explicit SlowState(const schema::EntitiesInfo& info)
      : info_(info), symbol_counts_(replica::SymbolCounts::expected(info)) {}

  /// What there is as of the next tick, and what of it is in view.
  void tick(std::map<std::uint32_t, SlowThing> things,
            const std::vector<replica::RelevantEntity>& seen) {
    ++tick_;
    for (auto& [id, thing] : things) {
      auto& past = past_[{id, thing.generation}];
      if (!past.empty()) {  // what is `at spawn` stays
        const SlowRow& first = past.begin()->second;
        for (std::size_t c = 0; c < thing.row.numbers.size(); ++c) {
          if (!thing.kind->columns[c].at_spawn) continue;
          thing.row.numbers[c] = first.numbers[c];
          thing.row.varying[c] = first.varying[c];
        }
      }
      if (past.empty() || past.rbegin()->second != thing.row) past[tick_] = thing.row;
    }
    things_ = std::move(things);
    seen_.clear();
    for (const replica::RelevantEntity& each : seen) seen_[each.id] = each.owner;
  }
  void acked(std::uint32_t snapshot) { acks_.insert(snapshot); }
  void lost(std::uint32_t snapshot) {
    if (!snapshots_[snapshot].arrived) snapshots_[snapshot].lost = true;
  }

  /// The bits of the next snapshot; empty: there is nothing to say.
  std::string fill() {
    hear();
    std::map<std::uint32_t, What> tells = decide();
    if (tells.empty() && !needs_heartbeat()) return {};
    bits_.clear();
    Snapshot made;
    const std::uint32_t number = static_cast<std::uint32_t>(snapshots_.size()) + 1;
    made.tick = tick_;
    made.newest = sure_;
    const bool with_movers = sure_ > 0;
    std::set<std::uint32_t> continuing;
    if (with_movers) {
      for (const auto& [id, update] : snapshots_[sure_].update) {
        if (update.what != What::gone) continuing.insert(id);
      }
    }
    bool others = false;
    bool acked_snapshots = false;
    for (const auto& [id, what] : tells) {
      others = others || (what != What::whole && !continuing.contains(id));
      acked_snapshots = acked_snapshots || what == What::whole;
    }
    head(number, made, with_movers, others, acked_snapshots);
    for (const std::uint32_t id : continuing) {
      const auto tells_of = tells.find(id);
      const Told& held = *known(id).front();
      const std::size_t masks = masks_of(*held.kind);
      if (tells_of == tells.end() || tells_of->second == What::whole) {
        symbol(held, true, masks);
      } else if (tells_of->second == What::gone) {
        symbol(held, true, masks + 1);
      } else {
        change(id, true);
      }
    }
    if (others) write_unexpected(tells, continuing);
    if (acked_snapshots) write_spawns(tells);
    for (const auto& [id, what] : tells) {
      Told update{what, tick_, 0, nullptr, false, {}};
      if (what != What::gone) {
        const SlowThing& thing = things_.at(id);
        update = {what, tick_, thing.generation, thing.kind, seen_.at(id), thing.row};
        if (what == What::change) update.owner = known(id).front()->owner;
      }
      made.update[id] = update;
    }
    snapshots_[number] = made;
    return bits_;
  }

 private:
  using What = SlowUpdate;
  using Told = SlowTold;
  struct Snapshot {
    std::uint32_t tick = 0;
    std::uint32_t newest = 0;
    std::map<std::uint32_t, Told> update;
    bool arrived = false;
    bool lost = false;
  };

  // ---- what arrived, and what is to be told ----
  void hear() {
    const std::uint32_t before = sure_;
    for (const std::uint32_t snapshot : std::exchange(acks_, {})) {
      Snapshot& heard = snapshots_[snapshot];
      bool whole = false;
      for (const auto& [id, update] : heard.update) whole = whole || update.what == What::whole;
      if (snapshot <= sure_ || (heard.lost && whole)) continue;
      heard.arrived = true;
      sure_ = snapshot;
    }
    for (std::uint32_t f = before + 1; f < sure_; ++f) {
      if (!snapshots_[f].arrived) snapshots_[f].lost = true;
    }
  }
  // States that the client is known to have, newest first.
  std::vector<const Told*> known(std::uint32_t id) {
    std::vector<const Told*> all;
    for (auto snapshot = snapshots_.rbegin(); snapshot != snapshots_.rend() && all.size() < 4;
         ++snapshot) {
      if (!snapshot->second.arrived) continue;
      const auto update = snapshot->second.update.find(id);
      if (update == snapshot->second.update.end()) continue;
      if (update->second.what == What::gone) break;
      if (!all.empty() && tick_ - update->second.tick > 24) break;
      all.push_back(&update->second);
      if (update->second.what == What::whole) break;
    }
    return all;
  }
  std::map<std::uint32_t, What> decide() {
    std::set<std::uint32_t> ids;
    for (const auto& [id, owner] : seen_) ids.insert(id);
    for (const auto& [number, snapshot] : snapshots_) {
      for (const auto& [id, update] : snapshot.update) ids.insert(id);
    }
    std::map<std::uint32_t, What> tells;
    for (const std::uint32_t id : ids) {
      const auto states = known(id);
      const Told* last = nullptr;  // told of it, whether it arrived or not
      bool last_counts = false;
      bool last_arrived = false;
      bool goes = false;  // somewhere on its way is the word that it is gone
      for (const auto& [number, snapshot] : snapshots_) {
        const auto update = snapshot.update.find(id);
        if (update == snapshot.update.end()) continue;
        last = &update->second;
        last_counts = !snapshot.lost;
        last_arrived = snapshot.arrived;
        if (update->second.what == What::gone && !snapshot.lost && !snapshot.arrived) goes = true;
      }
      const bool under_way = last != nullptr && last_counts;
      const auto thing = things_.find(id);
      if (thing == things_.end() || !seen_.contains(id)) {
        const bool said = under_way && last->what == What::gone && !last_arrived;
        if (!states.empty() && !said) tells[id] = What::gone;
        continue;
      }
      const bool owner = seen_.at(id);
      const auto& past = past_.at({id, thing->second.generation});
      const std::uint32_t changed = past.rbegin()->first;
      const bool goes_on = !states.empty() && !goes && states.front()->owner == owner &&
                           states.front()->generation == thing->second.generation;
      if (goes_on && changed <= states.front()->tick) continue;
      const bool sent = under_way && last->what != What::gone && last->owner == owner &&
                        last->generation == thing->second.generation;
      if (sent && (changed <= last->tick || !goes_on) && snapshots_.size() - sure_ >= 32) continue;
      std::uint32_t oldest = 0;  // of 32 changes that are remembered
      if (past.size() >= 32) oldest = std::prev(past.end(), 32)->first;
      const bool change = goes_on && states.front()->tick >= oldest;
      tells[id] = change ? What::change : What::whole;
    }
    return tells;
  }
  bool needs_heartbeat() {
    bool needs_heartbeat = false;
    const std::uint32_t heard = sure_ > 0 ? snapshots_[sure_].newest : 0;
    for (const auto& [number, snapshot] : snapshots_) {
      if (number > sure_ && !snapshot.arrived && !snapshot.lost) return false;
      if (number > heard && snapshot.lost && !snapshot.arrived && !snapshot.update.empty())
        needs_heartbeat = true;
    }
    return needs_heartbeat;
  }

  // ---- the snapshot ----
  void head(std::uint32_t number, const Snapshot& snapshot, bool with_movers, bool others,
            bool spawns) {
    if (sure_ == 0) {
      put(1, 1);
      put(number, 32);
      put(snapshot.tick, 32);
      put(20 * 16, 16);  // ticks a second, in sixteenths
      put(replica::CodeTables(symbol_counts_).digest() & 0xffffU, 16);
      put(0, 1);  // exact
      put_count(number - 1, 3);
      put(0, 2);
      put(spawns ? 1 : 0, 1);
      put(0, 1);
      return;
    }
    const Snapshot& named = snapshots_[sure_];
    put(0, 1);
    put(number, 7);
    std::string between;
    for (std::uint32_t f = sure_ - 1; f > named.newest; --f) {
      between += snapshots_[f].arrived ? '1' : '0';
    }
    const std::uint32_t back = number - sure_;
    const bool lost = between.find('0') != std::string::npos;
    const std::int64_t tick = std::int64_t{snapshot.tick} - named.tick - back;
    const bool usual = with_movers && !others && !spawns;
    const std::size_t which = (std::min(back, 9U) - 1) * std::size_t{16} + (lost ? 1U : 0U) +
                              (tick != 0 ? 2U : 0U) + (usual ? 0U : 8U);
    bits_ += code(symbol_counts_.heads(), which);
    if (back >= 9) put_count(back - 9, 1);
    if (lost) bits_ += between;
    if (tick != 0) put_count(folded(tick), 0);
    if (!usual) put((with_movers ? 1U : 0U) | (others ? 2U : 0U) | (spawns ? 4U : 0U), 3);
  }
  void write_unexpected(const std::map<std::uint32_t, What>& tells,
                        const std::set<std::uint32_t>& continuing) {
    std::vector<std::uint32_t> order;
    for (const bool changed : {true, false}) {
      std::set<std::uint32_t> ids;
      for (const auto& [number, snapshot] : snapshots_) {
        for (const auto& [id, update] : snapshot.update) ids.insert(id);
      }
      for (const std::uint32_t id : ids) {
        const auto states = known(id);
        if (states.empty() || continuing.contains(id)) continue;
        if ((states.front()->what == What::change) == changed) order.push_back(id);
      }
    }
    std::size_t passed = 0;
    bool first = true;
    for (const std::uint32_t id : order) {
      const auto tells_of = tells.find(id);
      if (tells_of == tells.end() || tells_of->second == What::whole) {
        ++passed;
        continue;
      }
      if (!std::exchange(first, false)) put(1, 1);
      put_count(std::exchange(passed, 0), 1);
      if (tells_of->second == What::gone) {
        const Told& held = *known(id).front();
        symbol(held, false, masks_of(*held.kind));
      } else {
        change(id, false);
      }
    }
    put(0, 1);
  }
  void write_spawns(const std::map<std::uint32_t, What>& tells) {
    std::uint32_t before = 0;
    for (const auto& [id, what] : tells) {
      if (what != What::whole) continue;
      if (before > 0) put(1, 1);
      put_count(id - before - 1, 4);
      before = id;
      const SlowThing& thing = things_.at(id);
      put(thing.generation, 4);
      unsigned type_bits = 0;
      while ((std::size_t{1} << type_bits) < info_.types.size()) ++type_bits;
      put(thing.kind->type, type_bits);
      put(seen_.at(id) ? 1 : 0, 1);
      for (const std::size_t c : order_of(*thing.kind)) {
        const schema::ColumnInfo& column = thing.kind->columns[c];
        if (column.owner_only && !seen_.at(id)) continue;
        value(column, thing.row, c);
      }
    }
    put(0, 1);
  }
  void value(const schema::ColumnInfo& column, const SlowRow& row, std::size_t c) {
    if (column.form != schema::ColumnForm::varying) return put(row.numbers[c], column.bits);
    put_count(row.varying[c].size(), 5);
    bits_ += row.varying[c];
  }

  // ---- codes ----
  std::size_t age_of(const Told& held) const {
    return std::min<std::uint32_t>(std::max<std::uint32_t>(tick_ - held.tick, 1), 4) - 1;
  }
  void symbol(const Told& held, bool is_continuing, std::size_t which) {
    const auto& kind = symbol_counts_.types()[held.kind->type];
    bits_ += code((is_continuing ? kind.continuing : kind.unexpected)[age_of(held)], which);
  }
  // The word of a symbol in the Huffman code of these weights.
  std::string code(const std::vector<std::uint32_t>& symbol_counts, std::size_t which) {
    auto [found, fresh] = codes_.try_emplace(&symbol_counts);
    if (fresh) found->second = huffman(symbol_counts);
    return found->second[which];
  }

  // ---- changes ----
  void change(std::uint32_t id, bool is_continuing) {
    const auto states = known(id);
    const Told& held = *states.front();
    const schema::EntityInfo& kind = *held.kind;
    const SlowRow& now = things_.at(id).row;
    const auto travels = [&](std::size_t c) {
      const schema::ColumnInfo& column = kind.columns[c];
      return !column.at_spawn && (held.owner || !column.owner_only);
    };
    const auto off = [&](std::size_t c) -> std::int64_t {  // from what is predicted
      if (!travels(c)) return 0;
      if (kind.columns[c].form == schema::ColumnForm::varying) {
        return held.row.varying[c] != now.varying[c] ? 1 : 0;
      }
      return way_to(kind.columns[c], predicted(states, c, now, tick_), now.numbers[c]);
    };
    std::size_t mask = 0;
    unsigned at = 0;
    std::map<std::size_t, std::size_t> said;
    std::map<std::size_t, unsigned> widths;
    for (const auto& [c, width] : mask_of(kind)) {
      widths[c] = width;
      const std::int64_t error = off(c);
      std::size_t state = error != 0 ? 1 : 0;
      if (width == 2) state = error == 0 ? 0 : error == 1 ? 1 : error == -1 ? 2 : 3;
      said[c] = state;
      mask |= state << at;
      at += width;
    }
    symbol(held, is_continuing, mask);
    bool has_unchanging = false;
    bool any = false;
    for (std::size_t c = 0; c < kind.columns.size(); ++c) {
      if (said.contains(c) || kind.columns[c].at_spawn) continue;
      has_unchanging = true;
      any = any || off(c) != 0;
    }
    if (has_unchanging) put(any ? 1 : 0, 1);
    for (const std::size_t c : order_of(kind)) {
      if (!travels(c)) continue;
      const std::int64_t error = off(c);
      if (said.contains(c)) {
        if (said[c] == 0 || (widths[c] == 2 && said[c] < 3)) continue;
      } else {
        if (!any) continue;
        put(error != 0 ? 1 : 0, 1);
        if (error == 0) continue;
      }
      const schema::ColumnInfo& column = kind.columns[c];
      if (column.form == schema::ColumnForm::varying) {
        varying(column, held.row.varying[c], now.varying[c]);
        continue;
      }
      if (!is_number(column)) {
        value(column, now, c);
        continue;
      }
      const std::uint64_t place = folded(error > 0 ? error - 1 : error);
      const auto& counts = symbol_counts_.types()[kind.type].errors[c][age_of(held)];
      if (place < 24) {
        bits_ += code(counts, place);
        continue;
      }
      const std::string before = std::exchange(bits_, "");
      bits_ += code(counts, 36);
      put(now.numbers[c], column.bits);
      std::string shortest = std::exchange(bits_, "");
      // Classes of 16, 32, 64, ... residuals.
      std::uint64_t first = 24;
      for (unsigned of = 0; of < 12; ++of) {
        const std::uint64_t width = std::uint64_t{16} << of;
        if (place >= first && place < first + width) {
          bits_ += code(counts, 24 + of);
          put(place - first, 4 + of);
          const std::string by_class = std::exchange(bits_, "");
          if (by_class.size() <= shortest.size()) shortest = by_class;
        }
        first += width;
      }
      bits_ = before + shortest;
    }
  }

  const schema::EntitiesInfo& info_;
  replica::SymbolCounts symbol_counts_;
  std::uint32_t tick_ = 0;
  std::map<std::uint32_t, SlowThing> things_;
  std::map<std::pair<std::uint32_t, std::uint8_t>, std::map<std::uint32_t, SlowRow>> past_;
  std::map<std::uint32_t, bool> seen_;  // whether it is owned, by id
  std::map<std::uint32_t, Snapshot> snapshots_;
  std::set<std::uint32_t> acks_;
  std::uint32_t sure_ = 0;
  std::map<const std::vector<std::uint32_t>*, std::vector<std::string>> codes_;
};

}  // namespace kwind::kit
