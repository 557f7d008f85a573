// Watches the runtime codec at work and notes which bits were which value. Composed by runtime.cpp.
#pragma once
#include <functional>
#include <string>
#include <vector>

#include "kwind/schema/runtime.h"

namespace kwind::schema {

/// Watches nothing, at no cost.
struct NoTrace {
  struct Nothing {
    ~Nothing() {}  // so that an unused one draws no warning
  };
  static Nothing enter_field(const Field&) { return {}; }
  static Nothing enter_component(std::uint32_t) { return {}; }
  static Nothing enter_item(std::size_t) { return {}; }
  static Nothing enter_name(const std::string&) { return {}; }
  template <class... What>
  static Nothing leaf(const What&...) {
    return {};
  }
  template <class... What>
  static void done(const Nothing&, const What&...) {}
};

class Tracer {
 public:
  /// `memory` holds the first `bits` bits, or is still being filled if that is 0; `place` tells how
  /// many were passed.
  Tracer(std::span<const std::byte> memory, std::size_t bits, std::function<std::size_t()> place)
      : memory_(memory), bits_(bits), place_(std::move(place)) {}

  /// Takes its part off the path when it ends.
  class Inside {
   public:
    Inside(std::string& path, std::string* unit, const std::string& part, std::string new_unit)
        : path_(path), size_(path.size()), unit_(unit), old_unit_(*unit) {
      path += part;
      if (!new_unit.empty()) *unit = std::move(new_unit);
    }
    ~Inside() {
      path_.resize(size_);
      *unit_ = std::move(old_unit_);
    }
    Inside(const Inside&) = delete;
    Inside& operator=(const Inside&) = delete;

   private:
    std::string& path_;
    std::size_t size_;
    std::string* unit_;
    std::string old_unit_;
  };

  Inside enter_field(const Field& field);
  Inside enter_component(std::uint32_t index);
  Inside enter_item(std::size_t index);
  Inside enter_name(const std::string& name);

  struct Leaf {
    std::size_t span = 0;
    std::size_t fixed_bits = 0;  ///< 0: they vary
  };
  Leaf leaf(std::string type);
  Leaf leaf(const Protocol& protocol, const Type& type);
  /// `faults`: how many there were until now.
  void done(const Leaf& leaf, std::uint64_t faults, std::string value);
  void done(const Leaf& leaf, std::uint64_t faults, std::size_t value) {
    done(leaf, faults, std::to_string(value));
  }
  void done(const Leaf& leaf, std::uint64_t faults, const Protocol& protocol, const Type& type,
            const Value& value);

  void left_over(std::size_t from, std::size_t to);
  /// All spans; the raw bits are read now, when the memory is whole.
  std::vector<Span> take();

 private:
  std::span<const std::byte> memory_;
  std::size_t bits_;
  std::function<std::size_t()> place_;
  std::string path_;
  std::string unit_;
  std::uint64_t faults_ = 0;
  std::vector<Span> spans_;
};

}  // namespace kwind::schema
