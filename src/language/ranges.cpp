// Numeric types, by exact fractions: a range must be a whole number of steps, and an error offers
// the nearest step that divides it. Nothing is rounded before the bits are counted.
//
// Law: for each range that this file accepts, index_of and value_of are exact in double
// arithmetic. Hence the limit of 50 bits: 53 bits of a double, less one for the half that rounding
// adds, less two for sums.
#include "language/ranges.h"

#include <fmt/format.h>

#include <bit>
#include <cmath>

#include "language/rational.h"

namespace kwind::language {
namespace {

using schema::Type;
using schema::TypeKind;

// Whole numbers that a double holds together with the halves that rounding adds, in a range of two
// such numbers' difference.
constexpr std::int64_t kMaxExact = std::int64_t{1} << 50;

void report_empty(const TypeSyntax& syntax, Reporter& reporter) {
  reporter.error(syntax.lo.place,
                 "the range is empty: its low end is not below its high end; write the "
                 "lower number first");
}

void hint_bit(const TypeSyntax& syntax, std::uint64_t count, unsigned bits, Reporter& reporter) {
  reporter.hint(syntax.place, fmt::format("{} values take {} bits, one less would take {}; leave "
                                          "out an end, as with `..<`, if nothing needs it",
                                          count, bits, bits - 1));
}

// A step near `step` / `common` that divides `span` / `common`: a round one if one is near, else
// the nearest of all.
// Closeness on a logarithmic scale: 1/2 and 2 are equally far from 1.
std::string dividing_step(std::int64_t span, std::int64_t step, std::int64_t common) {
  const double wanted = static_cast<double>(step) / static_cast<double>(common);
  double best = 0.35;  // as a logarithm: a factor of 1.4
  std::string found;
  const auto offer = [&](std::int64_t num, std::int64_t den, const std::string& text) {
    if (Wide{span} * den % (Wide{num} * common) != 0) return;
    const double off =
        std::abs(std::log(static_cast<double>(num) / static_cast<double>(den) / wanted));
    if (off < best) {
      best = off;
      found = text;
    }
  };
  std::int64_t power = 1;
  // Powers of two first, which hardware and people divide by easily.
  for (int k = 0; k <= 20; ++k, power *= 2) {
    offer(1, power, k == 0 ? "1" : fmt::format("1/{}", power));
    offer(power, 1, fmt::format("{}", power));
  }
  power = 1;
  // Then 1, 2 and 5 by powers of ten.
  for (int k = 0; k <= 6; ++k, power *= 10) {
    for (const std::int64_t digit : {1, 2, 5}) {
      offer(digit, power,
            fmt::format("{}", static_cast<double>(digit) / static_cast<double>(power)));
      offer(digit * power, 1, fmt::format("{}", digit * power));
    }
  }
  if (!found.empty()) return found;
  const std::int64_t steps = std::max<std::int64_t>(1, (span + step / 2) / step);
  // Where numbers get too long to be written, all of the range in one step.
  const std::int64_t below = product(steps, common).value_or(common);
  const std::int64_t shared = std::gcd(span, below);
  return below == shared ? fmt::format("{}", span / shared)
                         : fmt::format("{}/{}", span / shared, below / shared);
}

}  // namespace

bool one_too_many(std::uint64_t count) {
  return count >= 5 && std::has_single_bit(count - 1);
}

schema::Fraction reduced(const Number& number) {
  const std::int64_t common = std::max<std::int64_t>(1, std::gcd(number.num, number.den));
  return {number.num / common, number.den / common};
}

// A range of whole numbers. All 2^64 values are permitted; an empty range is not.
std::optional<Type> integer_type(const TypeSyntax& syntax, Reporter& reporter) {
  // Both ends must be whole.
  for (const Number* end : {&syntax.lo, &syntax.hi}) {
    if (end->num % end->den != 0) {
      reporter.error(end->place,
                     "the range of an int has whole ends; use `real LO..HI step S` for parts");
      return std::nullopt;
    }
  }
  const std::int64_t lo = syntax.lo.num / syntax.lo.den;
  std::int64_t hi = syntax.hi.num / syntax.hi.den;
  if (hi < lo || (syntax.end_left_out && hi == lo)) {
    report_empty(syntax, reporter);
    return std::nullopt;
  }
  if (syntax.end_left_out) --hi;
  Type made;
  made.kind = TypeKind::integer;
  made.integer = {lo, hi};
  // 5 values take 3 bits, 4 take 2: only then a hint is worth reading.
  if (one_too_many(made.integer.last_index() + 1)) {
    hint_bit(syntax, made.integer.last_index() + 1, made.integer.bits(), reporter);
  }
  return made;
}

// A range of steps. The step must divide the range, in exact fractions: bounds that are no steps
// would be moved in silence.
std::optional<Type> real_type(const TypeSyntax& syntax, Reporter& reporter) {
  const auto too_fine = [&] {
    reporter.error(syntax.step.place, "range and step need more than 50 bits; use a coarser step");
    return std::nullopt;
  };
  if (syntax.step.num <= 0) {
    reporter.error(syntax.step.place, "the step must be above 0");
    return std::nullopt;
  }
  // All three numbers as multiples of one fraction.
  const auto scale = common_multiple(syntax.lo.den, syntax.hi.den);
  const auto common = scale ? common_multiple(*scale, syntax.step.den) : std::nullopt;
  if (!common) return too_fine();
  const auto lo = product(syntax.lo.num, *common / syntax.lo.den);
  const auto hi = product(syntax.hi.num, *common / syntax.hi.den);
  const auto step = product(syntax.step.num, *common / syntax.step.den);
  const auto exact = [](const std::optional<std::int64_t>& n) {
    return n && *n <= kMaxExact && *n >= -kMaxExact;
  };
  if (!exact(lo) || !exact(hi) || !exact(step) || *common > kMaxExact) return too_fine();
  if (*hi <= *lo) {
    report_empty(syntax, reporter);
    return std::nullopt;
  }
  const std::int64_t span = *hi - *lo;
  // Remainder 0: the high end is a value itself.
  if (span % *step != 0) {
    reporter.error(syntax.step.place, fmt::format("the step does not divide the range; {} would",
                                                  dividing_step(span, *step, *common)));
    return std::nullopt;
  }
  Type made;
  made.kind = TypeKind::real;
  const std::int64_t shared = std::gcd(std::gcd(*lo, *step), *common);  // lowest terms: canonical
  made.real = {*lo / shared, *step / shared, *common / shared,
               static_cast<std::uint64_t>(span / *step) + (syntax.end_left_out ? 0 : 1)};
  if (one_too_many(made.real.count)) hint_bit(syntax, made.real.count, made.real.bits(), reporter);
  return made;
}

// A circle of equal steps: the step must divide 360 degrees.
std::optional<Type> angle_type(const TypeSyntax& syntax, Reporter& reporter) {
  const Number& step = syntax.step;
  if (step.num <= 0) {
    reporter.error(step.place, "the step must be above 0");
    return std::nullopt;
  }
  // 128 bits: 360 times any denominator of 63 bits.
  const Wide whole = Wide{360} * step.den;
  if (whole > kMaxExact || step.num > kMaxExact) {
    reporter.error(step.place, "the step needs more than 50 bits; use a coarser one");
    return std::nullopt;
  }
  if (whole % step.num != 0) {
    reporter.error(step.place,
                   fmt::format("the step does not divide 360 degrees; the nearest that does is "
                               "360/{}",
                               std::max<std::int64_t>(1, static_cast<std::int64_t>(
                                                             (whole + step.num / 2) / step.num))));
    return std::nullopt;
  }
  Type made;
  made.kind = syntax.word == TypeWord::angle ? TypeKind::angle : TypeKind::direction2;
  const std::int64_t shared = std::gcd(step.num, step.den);
  made.angle = {step.num / shared, step.den / shared, static_cast<std::uint64_t>(whole / step.num)};
  return made;
}

// The largest error in degrees decides the grid of a direction or rotation.
std::optional<Type> unit_vector_type(const TypeSyntax& syntax, Reporter& reporter) {
  Type made;
  made.within = reduced(syntax.step);
  // Degrees of error decide how many values there are, as docs/schema-language.md tabulates.
  const double degrees = made.within.value();
  if (degrees < 0.001 || degrees > 45) {
    reporter.error(syntax.step.place, "the largest error must be 0.001 to 45 degrees");
    return std::nullopt;
  }
  if (syntax.word == TypeWord::direction3) {
    made.kind = TypeKind::direction3;
    made.direction = bits::DirectionGrid::within(degrees);
  } else {
    made.kind = TypeKind::rotation;
    made.rotation = bits::RotationGrid::within(degrees);
  }
  return made;
}

}  // namespace kwind::language
