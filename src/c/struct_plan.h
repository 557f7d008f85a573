// A compiled copy: reads an entity's fields out of their bits straight into a struct of the caller.
//
// A layout is the caller's memory, and is held against the description before it is used
// (layout.cpp). That costs more than the copy itself. A plan is the outcome of that check, with what
// was checked beside it: as long as the same tables have the same rows, only the copy remains.
// Types whose values have no fixed size (lists, texts and the like) have no plan.
#pragma once
#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "c/value.h"

namespace kwind::c {

class StructPlan {
 public:
  /// The plan for values of `type`; nothing if it has none. Requires: to_struct() with this layout
  /// has just succeeded. O(members).
  static std::optional<StructPlan> make(const schema::Protocol& protocol, const TypeName& type,
                                        const kwind_layout& layout);

  /// Whether the plan is of this layout: the same tables, with the rows that were checked.
  /// O(members).
  [[nodiscard]] bool is_of(const kwind_layout* layout) const;
  /// Reads all fields; writes those members that the caller's version or view lacks with their
  /// initial values. Requires: is_of(layout) and `out` has layout.struct_size bytes. O(members).
  void run(schema::Decoder& in, std::byte* out) const;

 private:
  // One member, or a component of one.
  struct Step {
    const schema::Type* type = nullptr;
    std::uint32_t offset = 0;
    std::uint16_t width = 0;  // of integers
    bool owner_only = false;
    schema::Life life;
    std::uint32_t bytes = 0;  // of the member
  };
  // A table of the caller as it was when it was checked.
  struct Table {
    const kwind_member* at = nullptr;
    std::vector<kwind_member> rows;
  };

  bool add_fields(const schema::Protocol& protocol, const std::vector<schema::Field>& fields,
                  const kwind_member* members, std::size_t count, std::uint32_t offset);
  bool add(const schema::Protocol& protocol, const schema::Type& type, const kwind_member& member,
           std::uint32_t offset, const Step& of_field);
  void note(const kwind_member* members, std::size_t count);
  void read(schema::Decoder& in, const Step& step, std::byte* to) const;

  const schema::Protocol* protocol_ = nullptr;
  kwind_layout layout_{};
  std::vector<Table> tables_;
  std::vector<Step> steps_;
  std::vector<std::byte> initial_;  // the struct with all fields at their initial values
};

}  // namespace kwind::c
