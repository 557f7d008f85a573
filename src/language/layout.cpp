// Places the values of a message in rows of 32 bits, as RFCs draw them. A value of varying size
// takes a row of its own, and what follows begins another.
#include "language/layout.h"

#include <algorithm>

namespace kwind::language {
namespace {

using schema::Field;
using schema::TypeKind;

class Placer {
 public:
  explicit Placer(const schema::Protocol& protocol) : protocol_(protocol) {}

  std::vector<LayoutCell> place(const std::vector<Field>& fields) {
    add(fields, "");
    return std::move(cells_);
  }

 private:
  // Records are laid out field by field, with their path as the name.
  void add(const std::vector<Field>& fields, const std::string& prefix) {
    for (const Field& field : fields) {
      if (!field.travels(schema::kNewest)) continue;
      const std::string path = prefix + field.name;
      const schema::Size size = schema::size_of(protocol_, field.type);
      if (field.type.kind == TypeKind::record && size.min_bits == size.max_bits) {
        add(protocol_.records[field.type.index].fields, path + ".");
      } else {
        value(path, size);
      }
    }
  }

  // One field: as many cells as rows that it reaches into. From the first field of unknown size on
  // positions are not fixed.
  void value(const std::string& path, const schema::Size& size) {
    ++number_;
    LayoutCell cell;
    cell.path = path;
    cell.number = number_;
    cell.min_bits = size.min_bits;
    cell.max_bits = size.max_bits;
    if (cell.varies()) {
      if (at_ > 0) next_row();
      cell.row = row_;
      cell.bits = kRowBits;
      cells_.push_back(std::move(cell));
      next_row();
      return;
    }
    for (std::uint32_t left = size.max_bits; left > 0;) {
      const std::uint32_t part = std::min(left, kRowBits - at_);
      cell.row = row_;
      cell.first = at_;
      cell.bits = part;
      cell.starts = left == size.max_bits;
      cell.ends = part == left;
      cells_.push_back(cell);
      left -= part;
      at_ += part;
      if (at_ == kRowBits) next_row();
    }
  }

  void next_row() {
    ++row_;
    at_ = 0;
  }

  const schema::Protocol& protocol_;
  std::vector<LayoutCell> cells_;
  std::size_t number_ = 0;
  std::size_t row_ = 0;
  std::uint32_t at_ = 0;
};

}  // namespace

std::vector<LayoutCell> lay_out(const schema::Protocol& protocol,
                                const std::vector<Field>& fields) {
  return Placer(protocol).place(fields);
}

}  // namespace kwind::language
