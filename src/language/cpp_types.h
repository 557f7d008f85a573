// What the types of a description become in C++: type names, defaults, ranges, headers. Composed
// by the generator. Pure.
#pragma once
#include <set>
#include <string>

#include "kwind/schema/protocol.h"

namespace kwind::language {

class CppTypes {
 public:
  /// `protocol` must outlive this.
  explicit CppTypes(const schema::Protocol& protocol) : protocol_(protocol) {}

  /// The type of a value, seen from namespace scope; `scope` ("::harbour::") is put before types of
  /// the description, for places where their names mean something else.
  [[nodiscard]] std::string name(const schema::Type& type, const std::string& scope = "") const;
  /// What stands behind a member's name to set it: " = 5", "" or "{...}".
  [[nodiscard]] std::string initial(const schema::Type& type, const schema::Value& value,
                                    const std::string& scope = "") const;
  /// The range constant of a leaf ("IntRange x_range{0, 9}"), or "".
  [[nodiscard]] static std::string range(const schema::Type& type, const std::string& prefix);
  /// The type at the bottom of lists, vectors, grids and `maybe`.
  [[nodiscard]] static const schema::Type& leaf(const schema::Type& type);
  /// The std, library and generated headers that a member of the type needs.
  void headers(const schema::Type& type, std::set<std::string>& system,
               std::set<std::string>& ours) const;
  /// The declaration whose header defines a record or enum: a request's parts stand in its own.
  [[nodiscard]] std::string home(const std::string& name) const;
  /// The C++ name of an enum, flags or one of, with the struct it is in.
  [[nodiscard]] static std::string qualified(const schema::Options& options);
  /// The same of the struct around the cases of a `one of`.
  [[nodiscard]] static std::string qualified_one_of(const schema::Options& options);

 private:
  [[nodiscard]] std::string value(const schema::Type& type, const schema::Value& value,
                                  const std::string& scope) const;

  const schema::Protocol& protocol_;
};

/// Whether the values of an int fit into std::int32_t.
bool fits_32(const schema::Type& type);

}  // namespace kwind::language
