// Notes, for each value that the runtime codec reads or writes, its path and its first and last
// bit.
#include "schema/tracer.h"

#include <fmt/format.h>

namespace kwind::schema {
namespace {

// A text as JSON would quote it, but for control characters: they are printed by number, so that a
// hostile text cannot move the cursor of a terminal.
std::string quoted(const std::string& text) {
  std::string out = "\"";
  for (const char c : text) {
    const auto byte = static_cast<unsigned char>(c);
    if (c == '"' || c == '\\') {
      out += fmt::format("\\{}", c);
    } else if (byte < 0x20 || byte == 0x7f) {
      out += fmt::format("\\x{:02x}", byte);
    } else {
      out += c;
    }
  }
  return out + '"';
}

// Directions and rotations: their components, six digits each.
std::string tuple(const Value& value) {
  std::vector<std::string> parts;
  parts.reserve(value.items.size());
  for (const Value& item : value.items) parts.push_back(fmt::format("{:.6g}", item.real));
  return fmt::format("({})", fmt::join(parts, ", "));
}

// The bits of a span: one number up to 64 bits, beyond that two hexadecimal digits for each byte.
// The reader has no seek, so the bits before the span are read and dropped.
std::string raw_text(std::span<const std::byte> memory, const Span& span) {
  bits::Reader reader(memory);
  for (std::size_t skip = span.first_bit; skip > 0;) {
    const auto step = static_cast<unsigned>(std::min<std::size_t>(skip, 64));
    reader.get(step);
    skip -= step;
  }
  if (span.bits == 0) return "";
  if (span.bits <= 64) return fmt::format("{}", reader.get(static_cast<unsigned>(span.bits)));
  std::string out;
  for (std::size_t left = span.bits; left > 0;) {
    const auto step = static_cast<unsigned>(std::min<std::size_t>(left, 8));
    out += fmt::format("{:02x}", reader.get(step));
    left -= step;
  }
  return out;
}

}  // namespace

// The path of a value is that of the record around it and a part of its own. Each `enter_` returns
// a guard that takes the part off the path again.
Tracer::Inside Tracer::enter_field(const Field& field) {
  return {path_, &unit_, path_.empty() ? field.name : "." + field.name, field.unit};
}
Tracer::Inside Tracer::enter_component(std::uint32_t index) {
  return {path_, &unit_, std::string(".") + "xyzw"[index], ""};
}
Tracer::Inside Tracer::enter_item(std::size_t index) {
  return {path_, &unit_, fmt::format("[{}]", index), ""};
}
Tracer::Inside Tracer::enter_name(const std::string& name) {
  return {path_, &unit_, "." + name, ""};
}

// Begins a span at the present place. done() gives it its length.
Tracer::Leaf Tracer::leaf(std::string type) {
  Span span;
  span.path = path_;
  span.type = std::move(type);
  span.first_bit = place_();
  spans_.push_back(std::move(span));
  return {spans_.size() - 1};
}

Tracer::Leaf Tracer::leaf(const Protocol& protocol, const Type& type) {
  const Size size = size_of(protocol, type);
  Leaf made = leaf(type_text(protocol, type));
  if (size.min_bits == size.max_bits) made.fixed_bits = size.max_bits;
  return made;
}

void Tracer::done(const Leaf& leaf, std::uint64_t faults, std::string value) {
  Span& span = spans_[leaf.span];
  span.fault = faults != faults_;
  // Only a decoder has bits_: the size of the message. An encoder goes on after a value that is out
  // of range, and its later spans are right.
  if (bits_ > 0 && faults_ > 0) {  // decoding went wrong before: these bits were never read
    spans_.resize(leaf.span);
    return;
  }
  faults_ = faults;
  const std::size_t now = place_();
  span.bits = now - span.first_bit;
  if (span.fault && bits_ > 0) {
    // A decoder that failed does not say how far it came: to the end, unless the size is known.
    const std::size_t left = bits_ - span.first_bit;
    span.bits = leaf.fixed_bits > 0 ? std::min(leaf.fixed_bits, left) : left;
  }
  span.value = std::move(value);
}

void Tracer::done(const Leaf& leaf, std::uint64_t faults, const Protocol& protocol,
                  const Type& type, const Value& value) {
  std::string text = value_text(protocol, type, value);
  if (!unit_.empty()) text += " " + unit_;
  done(leaf, faults, std::move(text));
}

// Bits after the last field: the sender had another description, or the message is spoilt.
void Tracer::left_over(std::size_t from, std::size_t to) {
  Span span;
  span.type = "left over";
  span.first_bit = from;
  span.bits = to - from;
  span.fault = true;
  spans_.push_back(std::move(span));
}

// After a fault in the middle of a message the rest was not read. It becomes one span, so that the
// spans cover the message to its end.
std::vector<Span> Tracer::take() {
  if (bits_ > 0 && !spans_.empty() && spans_.back().fault) {
    const std::size_t read = spans_.back().first_bit + spans_.back().bits;
    if (read < bits_) {
      left_over(read, bits_);
      spans_.back().type = "not read";
      spans_.back().fault = false;
    }
  }
  for (Span& span : spans_) span.raw = raw_text(memory_, span);
  return std::move(spans_);
}

// The value of a leaf as people read it. Types that hold other values have no text: their leaves
// have.
std::string value_text(const Protocol& protocol, const Type& type, const Value& value) {
  switch (type.kind) {
    case TypeKind::boolean: return value.whole != 0 ? "true" : "false";
    case TypeKind::integer:
    case TypeKind::count:
    case TypeKind::peer:
    case TypeKind::tick: return fmt::format("{}", value.whole);
    case TypeKind::real:
    case TypeKind::f64: return fmt::format("{}", value.real);
    case TypeKind::f32: return fmt::format("{}", static_cast<float>(value.real));
    case TypeKind::angle: return fmt::format("{} degrees", value.real);
    case TypeKind::direction2:
    case TypeKind::direction3:
    case TypeKind::rotation: return tuple(value);
    case TypeKind::text: return quoted(value.text);
    case TypeKind::bytes: return fmt::format("{} bytes", value.text.size());
    case TypeKind::grid: return fmt::format("{} x {} cells", type.limit, type.height);
    case TypeKind::enumeration: {
      const auto& options = protocol.enums[type.index].options;
      const auto place = static_cast<std::size_t>(value.whole);
      return place < options.size() ? options[place].name : fmt::format("value {}", place);
    }
    case TypeKind::ref: {
      const auto id = static_cast<std::uint32_t>(value.whole);
      if (id == 0) return "none";
      return fmt::format("{} {} generation {}", protocol.entities[type.index].name, id,
                         value.whole >> 32);
    }
    case TypeKind::vec:
    case TypeKind::flags:
    case TypeKind::record:
    case TypeKind::list:
    case TypeKind::maybe:
    case TypeKind::one_of: break;
  }
  return "";
}

}  // namespace kwind::schema
