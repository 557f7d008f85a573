// The kite of bay.kw and its columns, for tests of predictors and tables.
#pragma once
#include <string_view>

#include "bay.h"

namespace kwind::replica {

inline const schema::EntityInfo& kite() {
  return bay::Kite::entity_info();
}
/// The first column of a field. Requires: there is one.
inline std::size_t column_of(const schema::EntityInfo& info, std::string_view field) {
  std::size_t c = 0;
  while (info.fields[info.columns[c].field].name != field) ++c;
  return c;
}

}  // namespace kwind::replica
