// What a replicator has to send, the slow way: written from docs/state-format.md alone, with bits
// as text and everything found by looking through all that ever happened. For snapshots with room
// for everything, one a tick, without tolerances, digests and inputs.
#pragma once
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <map>
#include <numbers>
#include <optional>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "kwind/replica/client_replicator.h"
#include "kwind/replica/code_tables.h"
#include "kwind/schema/entity_info.h"

namespace kwind::kit {

/// The columns of a value: whole numbers, and the bits of varying ones as text.
struct SlowRow {
  std::vector<std::uint32_t> numbers;
  std::vector<std::string> varying;
  friend bool operator==(const SlowRow&, const SlowRow&) = default;
};
struct SlowThing {
  const schema::EntityInfo* kind = nullptr;
  std::uint8_t generation = 0;
  SlowRow row;
};

template <class T>
SlowRow slow_row(const T& value) {
  std::vector<std::byte> memory(4096);
  schema::Encoder out{bits::Writer(memory)};
  std::vector<std::size_t> ends;
  encode_columns(out, value, [&] { ends.push_back(out.bit_count()); });
  out.finish();
  SlowRow row;
  const auto columns = T::entity_info().columns;
  bits::Reader in(memory, out.bit_count());
  std::size_t field = 0;
  std::size_t begin = 0;
  for (std::size_t c = 0; c < columns.size(); ++c) {
    if (columns[c].group != schema::ColumnGroup::none) {
      if (columns[c].group_place > 0) continue;
      // One index of mixed radix, the first column most significant.
      const bool rotation = columns[c].group == schema::ColumnGroup::rotation;
      const std::size_t count = rotation ? 4 : 2;
      const std::uint64_t side = std::uint64_t{columns[c + 1].last} + 1;
      std::uint64_t index = in.get(static_cast<unsigned>(ends[field] - begin));
      row.numbers.resize(c + count);
      row.varying.resize(c + count);
      for (std::size_t i = count; i-- > 1; index /= side) {
        row.numbers[c + i] = static_cast<std::uint32_t>(index % side);
      }
      row.numbers[c] = static_cast<std::uint32_t>(index);
      begin = ends[field++];
      continue;
    }
    row.numbers.push_back(0);
    row.varying.emplace_back();
    if (columns[c].form == schema::ColumnForm::varying) {
      for (std::size_t i = begin; i < ends[field]; ++i) row.varying[c] += in.get_bool() ? '1' : '0';
    } else {
      row.numbers[c] = static_cast<std::uint32_t>(in.get(columns[c].bits));
    }
    if (c + 1 == columns.size() || columns[c + 1].field != columns[c].field) begin = ends[field++];
  }
  return row;
}

class SlowState {
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
  enum class What { whole, change, gone };
  struct Told {
    What what;
    std::uint32_t tick;
    std::uint8_t generation;
    const schema::EntityInfo* kind;
    bool owner;
    SlowRow row;
  };
  struct Snapshot {
    std::uint32_t tick = 0;
    std::uint32_t newest = 0;
    std::map<std::uint32_t, Told> update;
    bool arrived = false;
    bool lost = false;
  };

  // ---- bits ----
  void put(std::uint64_t value, unsigned count) {
    for (unsigned i = 0; i < count; ++i) bits_ += (value >> i & 1) != 0 ? '1' : '0';
  }
  void put_count(std::uint64_t value, unsigned order) {
    const std::uint64_t head = (value >> order) + 1;
    unsigned width = 0;
    while (head >> width != 0) ++width;
    for (unsigned i = 1; i < width; ++i) bits_ += '0';
    bits_ += '1';
    put(head, width - 1);
    put(value, order);
  }
  static std::uint64_t folded(std::int64_t value) {
    return static_cast<std::uint64_t>(value >= 0 ? 2 * value : -2 * value - 1);
  }

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
  static bool is_place(const schema::EntityInfo& kind, std::size_t c) {
    for (const schema::FollowInfo& follow : kind.follows) {
      if (c >= follow.first && c < std::size_t{follow.first} + follow.axes) return true;
    }
    return false;
  }
  static std::vector<std::size_t> order_of(const schema::EntityInfo& kind) {
    std::vector<std::size_t> order;
    for (const bool places : {false, true}) {
      for (std::size_t c = 0; c < kind.columns.size(); ++c) {
        if (is_place(kind, c) == places) order.push_back(c);
      }
    }
    return order;
  }
  // Whether what is left of the mask's bits goes to it.
  static bool often_near(const schema::EntityInfo& kind, std::size_t c) {
    const schema::ColumnInfo& column = kind.columns[c];
    if (!is_number(column)) return false;
    bool moves = column.smooth;
    for (const schema::FollowInfo& follow : kind.follows) {
      moves = moves || c == follow.speed || c == follow.along;
    }
    return moves;
  }
  static bool is_number(const schema::ColumnInfo& column) {
    return (column.form == schema::ColumnForm::number ||
            column.form == schema::ColumnForm::circular) &&
           column.bits <= 30;
  }
  // Column and width of each, from the lowest bits on.
  static std::vector<std::pair<std::size_t, unsigned>> mask_of(const schema::EntityInfo& kind) {
    std::vector<std::pair<std::size_t, unsigned>> columns;
    unsigned bits = 0;
    const auto order = order_of(kind);
    for (auto c = order.rbegin(); c != order.rend(); ++c) {
      if (kind.columns[*c].at_spawn) continue;
      const unsigned width = is_place(kind, *c) ? 2 : 1;
      if (bits + width > 10) break;
      bits += width;
      columns.push_back({*c, width});
    }
    for (auto& [c, width] : columns) {
      if (bits == 10 || width == 2 || !often_near(kind, c)) continue;
      width = 2;
      ++bits;
    }
    std::reverse(columns.begin(), columns.end());
    return columns;
  }
  static std::size_t masks_of(const schema::EntityInfo& kind) {
    unsigned bits = 0;
    for (const auto& [column, width] : mask_of(kind)) bits += width;
    return std::size_t{1} << bits;
  }
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
  static std::vector<std::string> huffman(const std::vector<std::uint32_t>& symbol_counts) {
    struct Node {
      std::uint64_t priority;
      std::vector<std::size_t> symbols;
      bool joined = false;
    };
    std::vector<std::uint64_t> weights;
    for (const std::uint32_t priority : symbol_counts) weights.push_back(std::max(priority, 1U));
    std::vector<unsigned> lengths;
    for (bool fits = false; !fits;) {
      std::vector<Node> nodes;
      for (std::size_t s = 0; s < weights.size(); ++s) nodes.push_back({weights[s], {s}});
      lengths.assign(weights.size(), 0);
      for (std::size_t left = nodes.size(); left > 1; --left) {
        Node made{0, {}};
        for (int i = 0; i < 2; ++i) {
          Node* min = nullptr;
          for (Node& node : nodes) {  // in the order in which they were made
            if (!node.joined && (min == nullptr || node.priority < min->priority)) min = &node;
          }
          min->joined = true;
          made.priority += min->priority;
          made.symbols.insert(made.symbols.end(), min->symbols.begin(), min->symbols.end());
        }
        for (const std::size_t s : made.symbols) ++lengths[s];
        nodes.push_back(made);
      }
      fits = *std::max_element(lengths.begin(), lengths.end()) <= 24;
      if (!fits) {
        for (std::uint64_t& priority : weights) priority = (priority + 1) / 2;
      }
    }
    std::vector<std::string> words(weights.size());
    std::uint64_t next = 0;
    unsigned length = 0;
    for (unsigned wanted = 0; wanted <= 24; ++wanted) {
      for (std::size_t s = 0; s < words.size(); ++s) {
        if (lengths[s] != wanted) continue;
        next <<= wanted - std::exchange(length, wanted);
        for (unsigned i = wanted; i-- > 0;) words[s] += (next >> i & 1) != 0 ? '1' : '0';
        ++next;
      }
    }
    return words;
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
      return way_to(kind.columns[c], predicted(states, c, now), now.numbers[c]);
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
      bits_ += code(counts, 24);
      put_count(place - 24, 4);
      const std::string far = std::exchange(bits_, "");
      bits_ += code(counts, 25);
      put(now.numbers[c], column.bits);
      const std::string whole = std::exchange(bits_, "");
      bits_ = before + (whole.size() < far.size() ? whole : far);
    }
  }
  // A list or text by its items, another value by what both have in common; or all of it.
  void varying(const schema::ColumnInfo& column, const std::string& before,
               const std::string& now) {
    const std::string all_before = std::exchange(bits_, "");
    put(1, 1);
    const std::size_t ahead = bits_.size();
    if (column.grid >= 0) {
      bits_.clear();  // the twin's grids are whole
    } else if (column.max_items > 0) {
      edits(column, before, now);
    } else {
      std::size_t head = 0;
      while (head < std::min(before.size(), now.size()) && before[head] == now[head]) ++head;
      std::size_t tail = 0;
      while (tail < std::min(before.size(), now.size()) - head &&
             before[before.size() - 1 - tail] == now[now.size() - 1 - tail]) {
        ++tail;
      }
      put_count(head, 5);
      put_count(tail, 5);
      put_count(now.size() - head - tail, 5);
      bits_ += now.substr(head, now.size() - head - tail);
    }
    const std::string change = std::exchange(bits_, all_before);
    if (!change.empty() && change.size() - ahead < now.size()) {
      bits_ += change;
      return;
    }
    put(0, 1);
    put_count(now.size(), 5);
    bits_ += now;
  }
  static std::vector<std::string> items_of(const schema::ColumnInfo& column,
                                           const std::string& value) {
    unsigned width = 0;
    while (std::uint64_t{1} << width < std::uint64_t{column.max_items} + 1) ++width;
    std::vector<std::string> items;
    for (std::size_t i = width; i < value.size(); i += column.item_bits) {
      items.push_back(value.substr(i, column.item_bits));
    }
    return items;
  }
  void edits(const schema::ColumnInfo& column, const std::string& before, const std::string& now) {
    const auto old = items_of(column, before);
    const auto items = items_of(column, now);
    // 'k'ept, 'r'eplaced, 'i'nserted, 'd'eleted; the item of those that bring one.
    std::vector<std::pair<char, std::string>> steps;
    std::size_t head = 0;
    while (head < std::min(old.size(), items.size()) && old[head] == items[head]) ++head;
    std::size_t tail = 0;
    while (tail < std::min(old.size(), items.size()) - head &&
           old[old.size() - 1 - tail] == items[items.size() - 1 - tail]) {
      ++tail;
    }
    for (std::size_t i = 0; i < head; ++i) steps.emplace_back('k', "");
    const std::size_t rows = old.size() - head - tail;
    const std::size_t columns = items.size() - head - tail;
    std::size_t apart = 0;
    for (std::size_t i = 0; rows == columns && i < rows; ++i) {
      apart += old[head + i] != items[head + i] ? 1 : 0;
    }
    if ((rows == columns && apart <= 4) || rows > 64 || columns > 64) {
      for (std::size_t i = 0; i < std::max(rows, columns); ++i) {
        if (i >= columns) {
          steps.emplace_back('d', "");
        } else if (i >= rows) {
          steps.emplace_back('i', items[head + i]);
        } else {
          const bool same = old[head + i] == items[head + i];
          steps.emplace_back(same ? 'k' : 'r', items[head + i]);
        }
      }
    } else {
      std::vector<std::vector<int>> cost(rows + 1, std::vector<int>(columns + 1));
      for (std::size_t i = rows + 1; i-- > 0;) {
        for (std::size_t j = columns + 1; j-- > 0;) {
          if (i == rows || j == columns) {
            cost[i][j] = static_cast<int>(rows - i + columns - j);
          } else if (old[head + i] == items[head + j]) {
            cost[i][j] = cost[i + 1][j + 1];
          } else {
            cost[i][j] = 1 + std::min({cost[i + 1][j + 1], cost[i + 1][j], cost[i][j + 1]});
          }
        }
      }
      std::size_t i = 0;
      std::size_t j = 0;
      while (i < rows || j < columns) {
        const bool both = i < rows && j < columns;
        if (both && old[head + i] == items[head + j]) {
          steps.emplace_back('k', "");
          ++i, ++j;
        } else if (both && cost[i][j] == cost[i + 1][j + 1] + 1) {
          steps.emplace_back('r', items[head + j]);
          ++i, ++j;
        } else if (j < columns && (i == rows || cost[i][j] == cost[i][j + 1] + 1)) {
          steps.emplace_back('i', items[head + j]);
          ++j;
        } else {
          steps.emplace_back('d', "");
          ++i;
        }
      }
    }
    std::string runs;
    std::size_t count = 0;
    std::string written = std::exchange(bits_, "");
    for (std::size_t i = 0; i < steps.size();) {
      std::size_t kept = 0;
      while (i < steps.size() && steps[i].first == 'k') ++kept, ++i;
      if (i == steps.size()) break;
      const char kind = steps[i].first;
      std::string brought;
      std::size_t length = 0;
      for (; i < steps.size() && steps[i].first == kind; ++i, ++length) brought += steps[i].second;
      ++count;
      put_count(kept, 2);
      put(kind == 'r' ? 0 : 1, 1);
      if (kind != 'r') put(kind == 'd' ? 1 : 0, 1);
      put_count(length - 1, 0);
      if (kind != 'd') bits_ += brought;
    }
    runs = std::exchange(bits_, written);
    put_count(count - 1, 0);
    bits_ += runs;
  }
  static std::int64_t way_to(const schema::ColumnInfo& column, std::int64_t from, std::int64_t to) {
    std::int64_t way = to - from;
    if (column.form != schema::ColumnForm::circular) return way;
    const std::int64_t turn = std::int64_t{column.last} + 1;
    while (2 * way > turn) way -= turn;
    while (2 * way <= -turn - (turn % 2 != 0 ? 1 : 0)) way += turn;
    return way;
  }
  static std::int64_t kept_in(const schema::ColumnInfo& column, std::int64_t value) {
    const std::int64_t turn = std::int64_t{column.last} + 1;
    if (column.form == schema::ColumnForm::circular) return (value % turn + turn) % turn;
    return std::clamp<std::int64_t>(value, 0, column.last);
  }
  std::int64_t predicted(const std::vector<const Told*>& states, std::size_t c,
                         const SlowRow& now) const {
    const schema::EntityInfo& kind = *states.front()->kind;
    const schema::ColumnInfo& column = kind.columns[c];
    const Told& newest = *states.front();
    const std::int64_t ahead = std::min<std::int64_t>(tick_ - newest.tick, 40);
    if (is_place(kind, c)) {
      const schema::FollowInfo& follow = kind.follows[0];
      const auto way = [&](const SlowRow& row) {
        const double unit = std::ldexp(1.0, 24) / 20;
        const auto zero = static_cast<std::int64_t>(follow.speed_zero / follow.place_step * unit);
        const auto step = static_cast<std::int64_t>(follow.speed_step / follow.place_step * unit);
        const std::int64_t speed = zero + std::int64_t{row.numbers[follow.speed]} * step;
        const double turn = static_cast<double>(row.numbers[follow.along]) / follow.angle_steps;
        const double angle = 2 * std::numbers::pi * turn;
        const double part = c == follow.first ? std::cos(angle) : std::sin(angle);
        const auto cosine = static_cast<std::int64_t>(std::floor(std::ldexp(part, 24) + 1e-3));
        return (speed >> 4) * cosine >> 20;
      };
      std::vector<std::int64_t> leads;
      for (std::size_t i = 0; i < states.size(); ++i) {
        std::int64_t to = std::int64_t{states[i]->row.numbers[c]} << 25;
        for (std::size_t j = 1; j <= i; ++j) {
          to += (way(states[j]->row) + way(states[j - 1]->row)) *
                (std::int64_t{states[j - 1]->tick} - states[j]->tick);
        }
        // By speed and direction at the end of each tick.
        leads.push_back(to + (way(newest.row) + way(now)) * ahead + way(now) - way(states[i]->row));
        if (std::abs(leads.back() - leads.front()) > std::int64_t{2} << 25) {
          leads.pop_back();
          break;
        }
      }
      std::int64_t sum = 0;
      for (const std::int64_t lead : leads) sum += lead;
      auto mean = static_cast<std::int64_t>(sum / static_cast<std::int64_t>(leads.size()));
      if (mean * static_cast<std::int64_t>(leads.size()) > sum) --mean;
      return kept_in(column, (mean + (std::int64_t{1} << 24)) >> 25);
    }
    if (column.group != schema::ColumnGroup::none) return unit(states, c, now, ahead);
    if (!column.smooth || states.size() < 2) return newest.row.numbers[c];
    const Told& oldest = *states.back();
    const auto step = [&](const Told& from, const Told& to) {
      return way_to(column, from.row.numbers[c], to.row.numbers[c]);
    };
    if (states.size() > 2) {
      const std::int64_t late = std::int64_t{newest.tick} - states[1]->tick;
      const std::int64_t early = std::int64_t{states[1]->tick} - states[2]->tick;
      const std::int64_t bend =
          step(*states[1], newest) * early - step(*states[2], *states[1]) * late;
      if (std::abs(bend) > 2 * late * early) return newest.row.numbers[c];
    }
    const std::int64_t span = std::int64_t{newest.tick} - oldest.tick;
    if (span == 0 || span > 40) return newest.row.numbers[c];
    return kept_in(column, newest.row.numbers[c] + step(oldest, newest) * ahead / span);
  }
  static std::int64_t root(std::int64_t value) {
    auto found = static_cast<std::int64_t>(std::sqrt(static_cast<long double>(value)));
    while (found * found > value) --found;
    while ((found + 1) * (found + 1) <= value) ++found;
    return found;
  }
  static std::int64_t half_up(std::int64_t value, std::int64_t by) {
    std::int64_t quotient = (2 * value + by) / (2 * by);
    if (quotient * 2 * by > 2 * value + by) --quotient;
    return quotient;
  }
  // Rotations and directions.
  static std::int64_t unit(const std::vector<const Told*>& states, std::size_t c,
                           const SlowRow& now, std::int64_t ahead) {
    const schema::EntityInfo& kind = *states.front()->kind;
    const schema::ColumnInfo& column = kind.columns[c];
    const std::size_t first = c - column.group_place;
    const SlowRow& newest = states.front()->row;
    const std::int64_t span = std::int64_t{states.front()->tick} - states.back()->tick;
    const bool moves = column.smooth && span > 0 && span <= 40;
    const bool rotation = column.group == schema::ColumnGroup::rotation;
    if (rotation && column.group_place == 0) return newest.numbers[c];
    if (!moves && (!rotation || newest.numbers[first] == now.numbers[first])) {
      return newest.numbers[c];
    }
    const std::int64_t half = kind.columns[first + 1].last / 2;
    const auto vector_of = [&](const SlowRow& row) {
      std::vector<std::int64_t> v;
      const auto steps = [&](std::size_t i) { return std::int64_t{row.numbers[first + i]} - half; };
      if (rotation) {
        std::int64_t square = 2 * half * half;
        for (std::size_t i = 1; i < 4; ++i) square -= steps(i) * steps(i);
        for (std::size_t i = 1; i < 4; ++i) v.push_back(steps(i) * 2048);
        v.insert(v.begin() + row.numbers[first],
                 root(std::max<std::int64_t>(square, 0) * 2048 * 2048));
      } else {
        const std::int64_t x = steps(0);
        const std::int64_t y = steps(1);
        const std::int64_t z = half - std::abs(x) - std::abs(y);
        v = {x, y, z};
        if (z < 0)
          v = {x < 0 ? std::abs(y) - half : half - std::abs(y),
               y < 0 ? std::abs(x) - half : half - std::abs(x), z};
        for (std::int64_t& each : v) each *= 1024;
      }
      return v;
    };
    std::vector<std::int64_t> v = vector_of(newest);
    if (moves) {
      std::vector<std::int64_t> from = vector_of(states.back()->row);
      std::int64_t dot = 0;
      for (std::size_t i = 0; rotation && i < 4; ++i) dot += (from[i] >> 8) * (v[i] >> 8);
      for (std::size_t i = 0; i < v.size(); ++i) {
        v[i] += (v[i] - (dot < 0 ? -from[i] : from[i])) * ahead / span;
      }
    }
    const auto index = [&](std::int64_t steps) { return std::clamp(steps, -half, half) + half; };
    if (rotation) {
      const std::size_t largest = now.numbers[first];
      if (v[largest] < 0) {
        for (std::int64_t& each : v) each = -each;
      }
      std::int64_t square = 0;
      for (std::int64_t& each : v) {
        each >>= 8;
        square += each * each;
      }
      const std::int64_t length = root(square) * 16;
      if (length == 0) return newest.numbers[c];
      v.erase(v.begin() + static_cast<std::ptrdiff_t>(largest));
      const std::int64_t wanted = root(2 * half * half * 256);
      return index(half_up(v[column.group_place - std::size_t{1}] * wanted, length));
    }
    const std::int64_t sum = std::abs(v[0]) + std::abs(v[1]) + std::abs(v[2]);
    if (sum == 0) return newest.numbers[c];
    std::int64_t x = half_up(v[0] * half, sum);
    std::int64_t y = half_up(v[1] * half, sum);
    if (v[2] < 0) {
      const std::int64_t folded_x = (half - std::abs(y)) * (x < 0 ? -1 : 1);
      y = (half - std::abs(x)) * (y < 0 ? -1 : 1);
      x = folded_x;
    }
    return index(column.group_place == 0 ? x : y);
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
  std::string bits_;
};

}  // namespace kwind::kit
