// What the symbols counted so far take in the tables in use, and in tables fitted to them.
#include "host/table_meter.h"

namespace kwind::host {
namespace {

double bits_in(const replica::SymbolCounts& counted, const replica::CodeTables& tables) {
  double bits = 0;
  for (const replica::AlphabetCost& cost : replica::costs_of(counted, tables)) bits += cost.bits;
  return bits;
}

}  // namespace

// Changes are counted as the tables in use predict them.
void TableMeter::use(const std::shared_ptr<const replica::CodeTables>& tables) {
  const bool is_first = !tables_;
  tables_ = tables;
  for (Half& half : halves_) {
    if (!is_first && half.snapshots < kMaxSnapshots) continue;
    half = Half(entities_);
    if (tables != nullptr) half.counts.predict_with(*tables);
  }
}

// The client makes its own snapshots meanwhile: those of clients in step are encoded once, and then
// not by it.
void TableMeter::start(Peer peer, replica::ClientReplicator& replicator) {
  peer_ = peer;
  replicator_ = &replicator;
  ticks_ = 0;
  before_ = replicator.counts();
  replicator.count_into(&halves_[half_].counts);
}

void TableMeter::stop() {
  if (replicator_ == nullptr) return;
  Half& half = halves_[half_];
  const replica::ReplicatorCounts& now = replicator_->counts();
  half.snapshots += now.snapshots - before_.snapshots;
  half.bits += now.bits - before_.bits;
  replicator_->count_into(nullptr);
  replicator_ = nullptr;
  half_ = 1 - half_;
}

// Predictors stay those of the tables in use, which trained tables may choose anew: the saving is a
// lower bound in that. O(symbols of all alphabets).
TableFit TableMeter::fit() const {
  TableFit made;
  double used = 0;
  double tried = 0;
  for (std::size_t i = 0; i < halves_.size(); ++i) {
    const Half& half = halves_[i];
    // The client of this turn counts as far as it has come.
    const bool is_open = replicator_ != nullptr && half_ == i;
    const replica::ReplicatorCounts none{};
    const replica::ReplicatorCounts& now = is_open ? replicator_->counts() : none;
    made.snapshots += half.snapshots + (is_open ? now.snapshots - before_.snapshots : 0);
    made.bytes += static_cast<double>(half.bits + (is_open ? now.bits - before_.bits : 0)) / 8;
    const auto in_use =
        tables_ && *tables_ != nullptr ? *tables_ : replica::built_in_codes(entities_);
    const replica::CodeTables fitted(replica::SymbolCounts::fitted(
        entities_, halves_[1 - i].counts, replica::SymbolCounts::Choose::nothing));
    used += bits_in(half.counts, *in_use);
    tried += bits_in(half.counts, fitted);
  }
  if (made.snapshots == 0) return {};
  const auto snapshots = static_cast<double>(made.snapshots);
  made.bytes /= snapshots;
  made.trained_bytes = made.bytes - (used - tried) / 8 / snapshots;
  return made;
}

}  // namespace kwind::host
