// Any value of the description language, for code that knows the description only at run time.
// Plain data; one value, one thread.
#pragma once
#include <cstdint>
#include <string>
#include <vector>

namespace kwind::schema {

/// Which members mean something depends on the type:
///   bool, int, count, tick, peer     whole
///   enum                             whole: place of the value in the full description
///   flags                            whole: bit i for the i-th flag
///   ref                              whole: id, and generation << 32
///   real, angle, f32, f64             real
///   text; bytes                      text; its bytes
///   direction2, direction3, rotation     items: x y, x y z, w x y z, each real
///   vec2, vec3, list, grid, record   items: components, items, cells row by row, fields
///   maybe                            items: none or one
///   one of                           whole: place of the case; items: one if the case has a type
/// A record or message has an item for each field of the full description, in whatever version.
struct Value {
  std::int64_t whole = 0;
  double real = 0;
  std::string text;
  std::vector<Value> items;

  friend bool operator==(const Value&, const Value&) = default;
};

}  // namespace kwind::schema
