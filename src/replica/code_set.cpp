#include "code_set.h"

namespace kwind::replica {
namespace {

using schema::ColumnForm;
using schema::ColumnInfo;

bool follows(const schema::EntityInfo& info, std::size_t column) {
  return std::any_of(info.follows.begin(), info.follows.end(), [&](const auto& follow) {
    return column >= follow.first && column < std::size_t{follow.first} + follow.axes;
  });
}

// Of a thousand ticks in which an entity moves, in how many the column is not as foretold.
std::uint64_t changes_expected(const schema::EntityInfo& info, std::size_t column) {
  if (follows(info, column)) return 550;
  if (info.columns[column].smooth) return 600;
  return 20;
}

std::vector<PrefixCode> codes_of(const std::array<Tally::Kind::Counts, Tally::kAges>& counts) {
  std::vector<PrefixCode> made;
  made.reserve(counts.size());
  for (const auto& each : counts) made.emplace_back(each);
  return made;
}

}  // namespace

std::vector<std::uint16_t> coding_order(const schema::EntityInfo& info) {
  std::vector<std::uint16_t> order;
  for (const bool last : {false, true}) {
    for (std::size_t column = 0; column < info.columns.size(); ++column) {
      if (follows(info, column) == last) order.push_back(static_cast<std::uint16_t>(column));
    }
  }
  return order;
}

std::vector<std::uint16_t> mask_columns(const schema::EntityInfo& info,
                                        const std::vector<std::uint16_t>& order) {
  std::vector<std::uint16_t> columns;
  for (const std::uint16_t column : order) {
    if (!info.columns[column].at_spawn) columns.push_back(column);
  }
  // Places change most often, and are coded last.
  if (columns.size() > kMaskColumns) {
    columns.erase(columns.begin(), columns.end() - static_cast<std::ptrdiff_t>(kMaskColumns));
  }
  return columns;
}

Tally::Tally(const schema::EntitiesInfo& entities) {
  for (const schema::EntityInfo* info : entities.kinds) {
    const std::size_t masks = std::size_t{1} << mask_columns(*info, coding_order(*info)).size();
    Kind kind;
    kind.movers.fill(Kind::Counts(masks + 2));
    kind.others.fill(Kind::Counts(masks + 1));
    std::array<Kind::Counts, kAges> errors;
    errors.fill(Kind::Counts(kErrors + 1));
    kind.errors.assign(info->columns.size(), errors);
    kinds_.push_back(std::move(kind));
  }
}

Tally Tally::expected(const schema::EntitiesInfo& entities) {
  Tally made(entities);
  for (std::size_t k = 0; k < made.kinds_.size(); ++k) {
    const schema::EntityInfo& info = *entities.kinds[k];
    const auto columns = mask_columns(info, coding_order(info));
    const auto likely = [&](std::size_t mask, std::uint64_t of) {
      std::uint64_t weight = of;
      for (std::size_t i = 0; i < columns.size(); ++i) {
        const std::uint64_t changes = changes_expected(info, columns[i]);
        weight = weight * ((mask >> i & 1) != 0 ? changes : 1000 - changes) / 1000;
      }
      return static_cast<std::uint32_t>(std::max<std::uint64_t>(weight, 1));
    };
    Kind& kind = made.kinds_[k];
    for (std::size_t age = 0; age < kAges; ++age) {
      const std::size_t masks = std::size_t{1} << columns.size();
      for (std::size_t mask = 0; mask < masks; ++mask) {
        kind.movers[age][mask] = likely(mask, 1 << 20);
        // One column or another; seldom all that moves.
        kind.others[age][mask] = mask == 0 ? 1 : likely(mask, 1 << 20);
      }
      kind.movers[age][masks] = 1 << 14;
      kind.movers[age][masks + 1] = 1 << 10;
      kind.others[age][masks] = 1 << 17;
      for (std::size_t column = 0; column < info.columns.size(); ++column) {
        auto& errors = kind.errors[column][age];
        // Where values are foretold, half as many are twice as far off; elsewhere anything goes.
        const unsigned half = follows(info, column) ? 2 : 4;
        for (std::size_t i = 0; i < kErrors; ++i)
          errors[i] = std::uint32_t{1} << (20 - i / 2 / (half / 2));
        errors[kErrors] = 1 << 16;
      }
    }
  }
  return made;
}

CodeSet::CodeSet(const Tally& tally) : inside_(std::make_unique<Inside>()) {
  for (const Tally::Kind& counts : tally.kinds()) {
    Inside::Kind kind{codes_of(counts.movers), codes_of(counts.others), {}};
    for (const auto& column : counts.errors) kind.errors.push_back(codes_of(column));
    inside_->kinds.push_back(std::move(kind));
  }
}
CodeSet::~CodeSet() = default;

std::shared_ptr<const CodeSet> built_in_codes(const schema::EntitiesInfo& entities) {
  return std::make_shared<const CodeSet>(Tally::expected(entities));
}

}  // namespace kwind::replica
