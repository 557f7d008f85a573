// The interpreting codec: walks over a type and a value together and calls the same Encoder and
// Decoder that generated code calls, so that both make the same bits. A tracer may watch, and note
// which bits were which field.
//
// One walk in each direction, as a template over what watches it. With NoTrace the watcher
// compiles to nothing; with Tracer each leaf reports its first bit, its width and its value, from
// which `explain` and the dissectors are made.
// Law: for each protocol, version and value, bits(encode_value) == bits(generated encode()).
// properties_tests checks it with random descriptions.
#include "kwind/schema/runtime.h"

#include <fmt/format.h>

#include "kwind/schema/grid.h"
#include "schema/shapes.h"
#include "schema/tracer.h"

namespace kwind::schema {
namespace {

// The piece of an enum or a case.
// Sets without lives have a fixed width; with lives the width and the codes follow from the
// version.
Piece choice_piece(const Options& options, std::int64_t whole, const Encoder& out) {
  // An option that this version lacks is written as its stand-in: out.choice() knows both tables.
  const auto place = static_cast<std::uint64_t>(whole);
  return options.lives.empty() ? Encoder::choice(options.options.size(), place)
                               : out.choice(options.lives, place);
}

// A grid cell, to its index and back.
Piece cell_piece(const Protocol& protocol, const Type& cell, const Value& value,
                 const Encoder& out) {
  // Grids take types that have an index: others were refused by the compiler of the language.
  switch (cell.kind) {
    case TypeKind::integer: return Encoder::integer(cell.integer, value.whole);
    case TypeKind::real: return Encoder::real(cell.real, value.real);
    case TypeKind::angle: return Encoder::angle(cell.angle, value.real);
    case TypeKind::enumeration: return choice_piece(protocol.enums[cell.index], value.whole, out);
    default: return Encoder::boolean(value.whole != 0);
  }
}

// A cell's value from its index, which grids carry in place of bits.
void set_cell(const Protocol& protocol, const Type& cell, std::uint64_t index,
              std::uint16_t version, Value& to) {
  switch (cell.kind) {
    case TypeKind::integer: to.whole = cell.integer.value_of(index); return;
    case TypeKind::real: to.real = cell.real.value_of(index); return;
    case TypeKind::angle: to.real = cell.angle.value_of(index); return;
    case TypeKind::enumeration: {
      const Options& options = protocol.enums[cell.index];
      to.whole = static_cast<std::int64_t>(
          options.lives.empty() ? index : choice_with_code(options.lives, version, index));
      return;
    }
    default: to.whole = static_cast<std::int64_t>(index); return;
  }
}

// Values keep bytes in a string, too.
std::span<const std::byte> bytes_of(const std::string& text) {
  return std::as_bytes(std::span(text.data(), text.size()));
}

// Trace: NoTrace, which compiles to nothing, or Tracer.
template <class Trace>
class ValueEncoder {
 public:
  ValueEncoder(const Protocol& protocol, Encoder& out, Trace& trace)
      : protocol_(protocol), out_(out), trace_(trace) {}

  // Fields that the version lacks are passed over.
  void fields(const std::vector<Field>& all, const Value& value) {
    KWIND_ASSERT(value.items.size() == all.size());
    // In the order of the description. Which fields travel depends on the version and on whether
    // the receiver owns the entity, so both ends must agree on the two before the first bit.
    for (std::size_t i = 0; i < all.size(); ++i) {
      const Field& field = all[i];
      if (!field.travels(out_.version())) continue;
      if (field.words.owner_only && out_.view() != View::owner) continue;
      const auto inside = trace_.enter_field(field);
      encode(field.type, value.items[i]);
    }
  }

  // By type, as generated code does; a trace notes the place of each leaf.
  void encode(const Type& type, const Value& value) {
    switch (type.kind) {
      case TypeKind::list: return list(type, value);
      case TypeKind::record: return fields(protocol_.records[type.index].fields, value);
      case TypeKind::vec:
        // Components have one type; a vector has no bits of its own.
        for (std::uint32_t i = 0; i < type.limit; ++i) {
          const auto inside = trace_.enter_component(i);
          encode(type.element.front(), value.items[i]);
        }
        return;
      case TypeKind::maybe: {
        // `maybe`: one bit, then the value if it is present.
        const auto leaf = trace_.leaf("present");
        out_.write(Encoder::boolean(!value.items.empty()));
        trace_.done(leaf, out_.out_of_range_count(), value.items.empty() ? "no" : "yes");
        if (!value.items.empty()) encode(type.element.front(), value.items.front());
        return;
      }
      case TypeKind::one_of: return one_of(protocol_.one_ofs[type.index], value);
      case TypeKind::flags: return flags(protocol_.flags[type.index], value);
      default: break;
    }
    const auto leaf = trace_.leaf(protocol_, type);
    leaf_value(type, value);
    trace_.done(leaf, out_.out_of_range_count(), protocol_, type, value);
  }

 private:
  // Leaves go through the same functions of Encoder as generated code's.
  void leaf_value(const Type& type, const Value& value) {
    // Component i of a direction or a rotation.
    const auto at = [&](std::size_t i) { return value.items[i].real; };
    switch (type.kind) {
      case TypeKind::boolean: return out_.write(Encoder::boolean(value.whole != 0));
      case TypeKind::integer: return out_.write(Encoder::integer(type.integer, value.whole));
      case TypeKind::real: return out_.write(Encoder::real(type.real, value.real));
      case TypeKind::angle: return out_.write(Encoder::angle(type.angle, value.real));
      case TypeKind::f32: return out_.write(Encoder::f32(static_cast<float>(value.real)));
      case TypeKind::f64: return out_.write(Encoder::f64(value.real));
      case TypeKind::direction2: return out_.write(Encoder::direction2(type.angle, at(0), at(1)));
      case TypeKind::direction3:
        return out_.write(Encoder::direction3(type.direction, at(0), at(1), at(2)));
      case TypeKind::rotation:
        return out_.write(Encoder::rotation(type.rotation, at(0), at(1), at(2), at(3)));
      case TypeKind::count: return out_.count(type.limit, whole32(value));
      case TypeKind::text: return out_.text(type.limit, value.text);
      case TypeKind::bytes: return out_.bytes(type.limit, bytes_of(value.text));
      case TypeKind::enumeration:
        return out_.write(choice_piece(protocol_.enums[type.index], value.whole, out_));
      case TypeKind::ref:
        return out_.write(Encoder::ref(type.limit, static_cast<std::uint32_t>(value.whole),
                                       static_cast<std::uint8_t>(value.whole >> 32)));
      case TypeKind::peer: return out_.write(Encoder::peer(type.limit, whole32(value)));
      case TypeKind::tick:
        return out_.write(Encoder::tick(static_cast<std::uint32_t>(value.whole)));
      case TypeKind::grid: {
        const Type& cell = type.element.front();
        return encode_grid(out_, grid_shape(protocol_, type, out_.version()), [&](std::size_t i) {
          return out_.cell(cell_piece(protocol_, cell, value.items[i], out_));
        });
      }
      case TypeKind::vec:
      case TypeKind::flags:
      case TypeKind::record:
      case TypeKind::list:
      case TypeKind::maybe:
      case TypeKind::one_of: return;  // not leaves
    }
  }
  // Beyond 32 bits it is out of every range that it is held to.
  static std::uint32_t whole32(const Value& value) {
    return value.whole < 0 || value.whole > 0xffffffff ? 0xffffffffU
                                                       : static_cast<std::uint32_t>(value.whole);
  }

  // The length, then the items, as far as the limit permits.
  void list(const Type& type, const Value& value) {
    const auto leaf = trace_.leaf("length of list");
    const std::size_t size = out_.length(type.limit, value.items.size());
    trace_.done(leaf, out_.out_of_range_count(), value.items.size());
    for (std::size_t i = 0; i < size; ++i) {
      const auto inside = trace_.enter_item(i);
      encode(type.element.front(), value.items[i]);
    }
  }

  // One bit for each flag that the version has.
  void flags(const Options& options, const Value& value) {
    // Flags are numbered by their place in the description: bit i of the set is flag i, in each
    // version.
    for (std::size_t i = 0; i < options.options.size(); ++i) {
      if (!options.options[i].life.alive(out_.version())) continue;
      const auto inside = trace_.enter_name(options.options[i].name);
      const bool set = (static_cast<std::uint64_t>(value.whole) >> i & 1) != 0;
      const auto leaf = trace_.leaf("flag");
      out_.write(Encoder::boolean(set));
      trace_.done(leaf, out_.out_of_range_count(), set ? "set" : "not set");
    }
  }

  // The case that the version has, or the one that stands for it; then its value.
  void one_of(const Options& options, const Value& value) {
    const auto leaf = trace_.leaf("case");
    out_.write(choice_piece(options, value.whole, out_));
    // The case that the encoder has written: a number beyond the list was moved to the last one.
    auto place = std::min(static_cast<std::size_t>(value.whole), options.options.size() - 1);
    if (!options.lives.empty()) {
      place = choice_standing_for(options.lives, out_.version(), place);
    }
    const Option& sent = options.options[place];
    trace_.done(leaf, out_.out_of_range_count(), sent.name);
    if (sent.type.empty()) return;
    const auto inside = trace_.enter_name(sent.name);
    // The payload follows only if the case was not replaced.
    if (place == static_cast<std::size_t>(value.whole)) {
      encode(sent.type.front(), value.items.front());
    } else {  // what stands in has no payload of its own
      encode(sent.type.front(), initial_value(protocol_, sent.type.front()));
    }
  }

  const Protocol& protocol_;
  Encoder& out_;
  Trace& trace_;
};

template <class Trace>
class ValueDecoder {
 public:
  ValueDecoder(const Protocol& protocol, Decoder& in, Trace& trace)
      : protocol_(protocol), in_(in), trace_(trace) {}

  // Fields that the version lacks keep their initial values.
  void fields(const std::vector<Field>& all, Value& to) {
    to.items.resize(all.size());
    for (std::size_t i = 0; i < all.size(); ++i) {
      const Field& field = all[i];
      if (!field.travels(in_.version()) || (field.words.owner_only && in_.view() != View::owner)) {
        to.items[i] = initial_value(protocol_, field);
        continue;
      }
      const auto inside = trace_.enter_field(field);
      decode(field.type, to.items[i]);
    }
  }

 private:
  // The reverse of encode(), type by type.
  void decode(const Type& type, Value& to) {
    switch (type.kind) {
      case TypeKind::list: return list(type, to);
      case TypeKind::record: return fields(protocol_.records[type.index].fields, to);
      case TypeKind::vec:
        // Invariant: a decoded vector has exactly `limit` items, whatever came.
        to.items.resize(type.limit);
        for (std::uint32_t i = 0; i < type.limit; ++i) {
          const auto inside = trace_.enter_component(i);
          decode(type.element.front(), to.items[i]);
        }
        return;
      case TypeKind::maybe: {
        const auto leaf = trace_.leaf("present");
        const bool present = in_.boolean();
        trace_.done(leaf, fault(), present ? "yes" : "no");
        to.items.resize(present ? 1 : 0);
        if (present) decode(type.element.front(), to.items.front());
        return;
      }
      case TypeKind::one_of: return one_of(protocol_.one_ofs[type.index], to);
      case TypeKind::flags: return flags(protocol_.flags[type.index], to);
      default: break;
    }
    const auto leaf = trace_.leaf(protocol_, type);
    leaf_value(type, to);
    trace_.done(leaf, fault(), protocol_, type, to);
  }

  // Leaves go through the same slots of Decoder as generated code's.
  void leaf_value(const Type& type, Value& to) {
    const auto whole = [&](const auto&... slot) { in_.read(slot...); };
    switch (type.kind) {
      case TypeKind::boolean: to.whole = in_.boolean() ? 1 : 0; return;
      case TypeKind::integer: return whole(Decoder::integer(type.integer, to.whole));
      case TypeKind::real: return whole(Decoder::real(type.real, to.real));
      case TypeKind::angle: return whole(Decoder::angle(type.angle, to.real));
      // A float is exact as a double: nothing is lost on the way back.
      case TypeKind::f32: {
        float value = 0;
        in_.read(Decoder::f32(value));
        to.real = static_cast<double>(value);
        return;
      }
      case TypeKind::f64: return whole(Decoder::f64(to.real));
      case TypeKind::direction2:
        to.items.resize(2);
        return whole(Decoder::direction2(type.angle, to.items[0].real, to.items[1].real));
      case TypeKind::direction3:
        to.items.resize(3);
        return whole(Decoder::direction3(type.direction, to.items[0].real, to.items[1].real,
                                         to.items[2].real));
      case TypeKind::rotation:
        to.items.resize(4);
        return whole(Decoder::rotation(type.rotation, to.items[0].real, to.items[1].real,
                                       to.items[2].real, to.items[3].real));
      case TypeKind::count: to.whole = in_.count(type.limit); return;
      case TypeKind::text: return in_.text(type.limit, to.text);
      case TypeKind::bytes: {
        // The length is checked against what is left before memory is taken.
        to.text.resize(in_.length(type.limit, 8));
        return in_.raw(std::as_writable_bytes(std::span(to.text.data(), to.text.size())));
      }
      case TypeKind::enumeration: {
        const Options& options = protocol_.enums[type.index];
        to.whole = static_cast<std::int64_t>(
            options.lives.empty() ? in_.choice(options.options.size()) : in_.choice(options.lives));
        return;
      }
      case TypeKind::ref: {
        Ref<void> ref;
        in_.read(Decoder::ref(type.limit, ref));
        to.whole = static_cast<std::int64_t>(ref.id) | static_cast<std::int64_t>(ref.generation)
                                                           << 32;
        return;
      }
      case TypeKind::peer: to.whole = static_cast<std::int64_t>(in_.choice(type.limit)); return;
      case TypeKind::tick: {
        std::uint32_t tick = 0;
        in_.read(Decoder::tick(tick));
        to.whole = tick;
        return;
      }
      case TypeKind::grid: {
        const Type& cell = type.element.front();
        to.items.resize(std::size_t{type.limit} * type.height);
        return decode_grid(in_, grid_shape(protocol_, type, in_.version()),
                           [&](std::size_t i, std::uint64_t index) {
                             set_cell(protocol_, cell, index, in_.version(), to.items[i]);
                           });
      }
      case TypeKind::vec:
      case TypeKind::flags:
      case TypeKind::record:
      case TypeKind::list:
      case TypeKind::maybe:
      case TypeKind::one_of: return;  // not leaves
    }
  }

  // Items are made one by one: a false length takes no memory.
  void list(const Type& type, Value& to) {
    const auto leaf = trace_.leaf("length of list");
    const Type& element = type.element.front();
    // Bounds what a lie about the length can allocate: nothing that the bits left do not back.
    const std::size_t size = in_.length(type.limit, type.item_bits);
    trace_.done(leaf, fault(), size);
    to.items.resize(size);
    // Stops at the first error, and drops the item in which it occurred.
    for (std::size_t i = 0; i < size; ++i) {
      const auto inside = trace_.enter_item(i);
      decode(element, to.items[i]);
      if (in_.error() != Errc::none) {
        to.items.resize(i);
        return;
      }
    }
  }
  // Flags that the version lacks are not set.
  void flags(const Options& options, Value& to) {
    std::uint64_t set = 0;
    for (std::size_t i = 0; i < options.options.size(); ++i) {
      if (!options.options[i].life.alive(in_.version())) continue;
      const auto inside = trace_.enter_name(options.options[i].name);
      const auto leaf = trace_.leaf("flag");
      const bool is_set = in_.boolean();
      set |= std::uint64_t{is_set} << i;
      trace_.done(leaf, fault(), is_set ? "set" : "not set");
    }
    to.whole = static_cast<std::int64_t>(set);
  }

  // A number without a case fails.
  void one_of(const Options& options, Value& to) {
    const auto leaf = trace_.leaf("case");
    const auto place = static_cast<std::size_t>(
        options.lives.empty() ? in_.choice(options.options.size()) : in_.choice(options.lives));
    const Option& option = options.options[place];
    trace_.done(leaf, fault(), option.name);
    to.whole = static_cast<std::int64_t>(place);
    to.items.resize(option.type.empty() ? 0 : 1);
    if (option.type.empty()) return;
    const auto inside = trace_.enter_name(option.name);
    decode(option.type.front(), to.items.front());
  }

  // Decoder errors stick: the first one stays.
  [[nodiscard]] std::uint64_t fault() const { return in_.error() == Errc::none ? 0 : 1; }

  const Protocol& protocol_;
  Decoder& in_;
  Trace& trace_;
};

}  // namespace

void encode_value(const Protocol& protocol, const std::vector<Field>& fields, const Value& value,
                  Encoder& out) {
  NoTrace none;
  ValueEncoder<NoTrace>(protocol, out, none).fields(fields, value);
}

// Entities are kept column by column: `mark` is called after each field, so that the caller notes
// where the bits of the next column begin.
void encode_columns(const Protocol& protocol, const Entity& entity, const Value& value,
                    Encoder& out, const std::function<void()>& mark) {
  KWIND_ASSERT(value.items.size() == entity.fields.size());
  NoTrace none;
  ValueEncoder<NoTrace> encoder(protocol, out, none);
  for (std::size_t i = 0; i < entity.fields.size(); ++i) {
    const Field& field = entity.fields[i];
    if (field.words.local != Local::no) continue;
    if (field.life.alive(out.version())) encoder.encode(field.type, value.items[i]);
    mark();
  }
}

void decode_value(const Protocol& protocol, const std::vector<Field>& fields, Decoder& in,
                  Value& to) {
  NoTrace none;
  ValueDecoder<NoTrace>(protocol, in, none).fields(fields, to);
}

Explained explain(const Protocol& protocol, const std::vector<Field>& fields,
                  std::span<const std::byte> memory, std::size_t bits, const Layout& layout) {
  Explained made;
  Decoder in(bits::Reader(memory, bits), layout.version, layout.newest_tick);
  std::size_t failed_at = bits;
  Tracer tracer(memory, bits, [&] {
    // A failed reader has nothing left; what it had read until then is where it failed.
    // Called by the tracer before and after each leaf.
    if (in.error() != Errc::none) return failed_at;
    failed_at = bits - in.left_bits();
    return failed_at;
  });
  ValueDecoder<Tracer>(protocol, in, tracer).fields(fields, made.value);
  made.error = in.error();
  if (made.error == Errc::none && in.left_bits() > 0) {
    // A message that ends early is an error, too: both ends must agree on the last bit.
    made.error = Errc::trailing_bits;
    tracer.left_over(bits - in.left_bits(), bits);
  }
  made.spans = tracer.take();
  return made;
}

std::vector<Span> encode_explained(const Protocol& protocol, const std::vector<Field>& fields,
                                   const Value& value, std::span<std::byte> memory, Encoder& out) {
  Tracer tracer(memory, 0, [&] { return out.bit_count(); });
  ValueEncoder<Tracer>(protocol, out, tracer).fields(fields, value);
  return tracer.take();
}

}  // namespace kwind::schema
