// Collects errors and hints at places of a file.
#pragma once
#include <algorithm>
#include <string>
#include <vector>

#include "language/lexer.h"

namespace kwind::language {

class Reporter {
 public:
  Reporter(std::vector<Diagnostic>& errors, std::vector<Diagnostic>& hints)
      : errors_(errors), hints_(hints) {}

  void error(const Token& place, std::string message) { add(errors_, place, std::move(message)); }
  [[nodiscard]] bool any_error() const { return !errors_.empty(); }
  void hint(const Token& place, std::string message) { add(hints_, place, std::move(message)); }

 private:
  static void add(std::vector<Diagnostic>& to, const Token& place, std::string message) {
    to.push_back({place.line, place.column,
                  std::max<std::uint32_t>(1, static_cast<std::uint32_t>(place.text.size())),
                  std::move(message), place.file});
  }

  std::vector<Diagnostic>& errors_;
  std::vector<Diagnostic>& hints_;
};

}  // namespace kwind::language
