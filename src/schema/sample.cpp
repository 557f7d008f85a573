// Made-up values by a seeded generator (SplitMix64). Sizes are chosen by the caller: the least, the
// most, or a typical one, where small counts and short lists are likelier.
//
// Random values serve tests, `kwind vectors` and the budget. Same seed, same values, on every
// system: no distribution of the standard library is used, since those differ between libraries.
#include "kwind/schema/sample.h"

#include <array>
#include <bit>
#include <cmath>

#include "kwind/schema/references.h"

namespace kwind::schema {
namespace {

// Words of one to five letters, with two characters beyond ASCII.
constexpr std::array<std::string_view, 16> kWords = {
    "tug",  "salt", "tide", "quay", "ahoy",  "lamp", "barge",       "north",
    "gull", "rope", "fog",  "buoy", "crate", "ice",  "t\xc3\xa5ke", "\xe2\x9a\x93"};

class Sampler {
 public:
  Sampler(const Protocol& protocol, SampleSize size, SampleNumbers& numbers)
      : protocol_(protocol), size_(size), numbers_(numbers) {}

  // A value of each type by the wanted size: the smallest, a typical, the largest, or any.
  Value value(const Type& type) {
    Value made;
    switch (type.kind) {
      // index(last) draws 0 to `last`.
      case TypeKind::boolean: made.whole = static_cast<std::int64_t>(index(1)); break;
      case TypeKind::integer:
        made.whole = type.integer.value_of(index(type.integer.last_index()));
        break;
      case TypeKind::count: made.whole = static_cast<std::int64_t>(count(type.limit)); break;
      case TypeKind::peer: made.whole = static_cast<std::int64_t>(index(type.limit - 1)); break;
      case TypeKind::tick: made.whole = static_cast<std::int64_t>(index(65535)); break;
      case TypeKind::real: made.real = type.real.value_of(index(type.real.last_index())); break;
      case TypeKind::angle: made.real = type.angle.value_of(index(type.angle.last_index())); break;
      case TypeKind::f32: made.real = real32(); break;
      case TypeKind::f64: made.real = real64(); break;
      case TypeKind::direction2: {
        const auto v = bits::direction2_value(type.angle, index(type.angle.last_index()));
        components(made, v);
        break;
      }
      case TypeKind::direction3: {
        // A random vector is mapped to the grid of directions and back: the value is one that
        // travels.
        const auto d = direction<3>();
        components(made, type.direction.value_of(type.direction.index_of(d[0], d[1], d[2]).index));
        break;
      }
      case TypeKind::rotation: {
        const auto q = direction<4>();
        components(made,
                   type.rotation.value_of(type.rotation.index_of(q[0], q[1], q[2], q[3]).index));
        break;
      }
      case TypeKind::vec: items(made, type, type.limit); break;
      case TypeKind::text: made.text = text(length(type.limit)); break;
      case TypeKind::bytes:
        // Bytes of any value, zeros as well.
        for (std::size_t left = length(type.limit); left > 0; --left) {
          made.text += static_cast<char>(index(255));
        }
        break;
      case TypeKind::enumeration:
        made.whole = static_cast<std::int64_t>(alive_place(protocol_.enums[type.index]));
        break;
      case TypeKind::flags: {
        std::uint64_t set = 0;
        const auto& options = protocol_.flags[type.index].options;
        // Flags of older versions stay unset.
        for (std::size_t i = 0; i < options.size(); ++i) {
          if (options[i].life.alive(kNewest)) set |= index(1) << i;
        }
        made.whole = static_cast<std::int64_t>(set);
        break;
      }
      case TypeKind::record: return fields(protocol_.records[type.index].fields);
      case TypeKind::list: items(made, type, length(type.limit)); break;
      case TypeKind::grid: return grid(type);
      case TypeKind::maybe:
        if (index(1) != 0) made.items.push_back(value(type.element.front()));
        break;
      case TypeKind::one_of: {
        const Options& options = protocol_.one_ofs[type.index];
        const std::size_t place = alive_place(options);
        // A case carries a value of its type, drawn in the same way.
        made.whole = static_cast<std::int64_t>(place);
        const auto& inner = options.options[place].type;
        if (!inner.empty()) made.items.push_back(value(inner.front()));
        break;
      }
      case TypeKind::ref: {
        const std::uint64_t id = index(type.limit);
        const std::uint64_t generation = id == 0 ? 0 : index(kGenerations - 1);
        made.whole = static_cast<std::int64_t>(id | generation << 32);
        break;
      }
    }
    return made;
  }

  // Local fields have no type to draw a value from.
  Value fields(const std::vector<Field>& all) {
    Value made;
    made.items.reserve(all.size());
    // In the order of the fields, so that one more field at the end does not change those before
    // it.
    for (const Field& field : all) {
      made.items.push_back(field.travels(kNewest) ? value(field.type)
                           : field.untyped        ? Value{}
                                                  : initial_value(protocol_, field));
    }
    return made;
  }

 private:
  // One of 0 to `last`, by the wanted size.
  std::uint64_t index(std::uint64_t last) {
    if (size_ == SampleSize::min) return 0;
    if (size_ == SampleSize::max) return last;
    if (size_ == SampleSize::any && numbers_.up_to(7) == 0) {  // the ends are where faults are
      return numbers_.up_to(1) == 0 ? 0 : last;
    }
    return numbers_.up_to(last);
  }

  // Typical lengths are a quarter to three quarters of the limit.
  std::size_t length(std::uint32_t limit) {
    switch (size_) {
      case SampleSize::min: return 0;
      case SampleSize::max: return limit;
      case SampleSize::typical: {
        const std::uint64_t quarter = limit / 4;
        return static_cast<std::size_t>(quarter + numbers_.up_to(limit - 2 * quarter));
      }
      // Long ones are rare, so that lists of lists stay small enough to try many of them.
      case SampleSize::any:
        return static_cast<std::size_t>(
            index(std::min<std::uint64_t>(limit, numbers_.up_to(15) == 0 ? 100 : 5)));
    }
    return 0;
  }

  // Small ones are likelier, as a count supposes.
  std::uint64_t count(std::uint32_t limit) {
    if (size_ == SampleSize::min || size_ == SampleSize::max) return index(limit);
    // A width first, then a value of that width: each order of magnitude is as likely as any
    // other.
    const auto width = static_cast<unsigned>(std::bit_width(limit));
    const std::uint64_t mask = bits::low_mask(static_cast<unsigned>(numbers_.up_to(width)));
    return std::min<std::uint64_t>(limit, numbers_.next() & mask);
  }

  // Exactly `size` bytes.
  std::string text(std::size_t size) {
    std::string made;
    if (size_ == SampleSize::max) return std::string(size, 'x');
    // Words until the length is reached; the last one is cut, filled with dots.
    while (made.size() < size) {
      std::string next(kWords[numbers_.up_to(kWords.size() - 1)]);
      if (size_ == SampleSize::any && numbers_.up_to(9) == 0) next = std::string(1, '\0');
      made += made.size() + next.size() <= size ? next : std::string(size - made.size(), '.');
      if (made.size() < size && size_ == SampleSize::typical) made += ' ';
    }
    return made;
  }

  double real32() {
    if (size_ == SampleSize::min) return 0;
    if (size_ == SampleSize::max) return static_cast<double>(std::numeric_limits<float>::max());
    if (size_ == SampleSize::typical) return static_cast<double>(numbers_.up_to(40000)) / 16 - 1000;
    // Any bit pattern but NaN, infinity and zero.
    const auto made = std::bit_cast<float>(static_cast<std::uint32_t>(numbers_.next()));
    return std::isfinite(made) && made != 0 ? static_cast<double>(made) : 0;
  }
  double real64() {
    if (size_ == SampleSize::max) return std::numeric_limits<double>::max();
    if (size_ != SampleSize::any) return real32();
    const auto made = std::bit_cast<double>(numbers_.next());
    return std::isfinite(made) && made != 0 ? made : 0;
  }

  // Some vector that is not zero.
  template <std::size_t N>
  // Rejects zero, the only vector without a direction.
  std::array<double, N> direction() {
    std::array<double, N> made{};
    for (double& component : made) {
      component = static_cast<double>(index(2000)) - 1000;
    }
    if (size_ == SampleSize::min || made == std::array<double, N>{}) {
      made = {};
      made[0] = 1;
    }
    return made;
  }

  template <std::size_t N>
  static void components(Value& made, const std::array<double, N>& values) {
    made.items.resize(N);
    for (std::size_t i = 0; i < N; ++i) made.items[i].real = values[i];
  }

  void items(Value& made, const Type& type, std::size_t count) {
    made.items.reserve(count);
    for (std::size_t i = 0; i < count; ++i) made.items.push_back(value(type.element.front()));
  }

  // A cell in 16 differs from the one before it.
  Value grid(const Type& type) {
    Value made;
    const std::size_t cells = std::size_t{type.limit} * type.height;
    made.items.reserve(cells);
    // Runs of equal cells, as maps have them.
    for (std::size_t i = 0; i < cells; ++i) {
      const bool fresh = i == 0 || size_ == SampleSize::any || numbers_.up_to(15) == 0;
      made.items.push_back(fresh ? value(type.element.front()) : made.items.back());
    }
    return made;
  }

  std::size_t alive_place(const Options& options) {
    // Codes are numbered among the options that live.
    const std::uint64_t code = index(options.alive(kNewest) - 1);
    return options.lives.empty() ? static_cast<std::size_t>(code)
                                 : choice_with_code(options.lives, kNewest, code);
  }

  const Protocol& protocol_;
  SampleSize size_;
  SampleNumbers& numbers_;
};

}  // namespace

std::uint64_t SampleNumbers::next() {
  // SplitMix64 (Steele, Lea, Flood 2014): an additive generator, then a mixer of 64 bits.
  state_ += 0x9e3779b97f4a7c15;
  std::uint64_t z = state_;
  z = (z ^ z >> 30) * 0xbf58476d1ce4e5b9;
  z = (z ^ z >> 27) * 0x94d049bb133111eb;
  return z ^ z >> 31;
}

Value sample_value(const Protocol& protocol, const Type& type, SampleSize size,
                   SampleNumbers& numbers) {
  return Sampler(protocol, size, numbers).value(type);
}

Value sample_value(const Protocol& protocol, const std::vector<Field>& fields, SampleSize size,
                   SampleNumbers& numbers) {
  return Sampler(protocol, size, numbers).fields(fields);
}

}  // namespace kwind::schema
