// `since`, `until` and `else`: an option that a version lacks is sent as its stand-in, which must
// be alive there. Who is alive changes at few versions only, and these alone are looked at.
#include "language/lives.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "kwind/bits/nearest.h"

namespace kwind::language {

// `since` and `until` are versions of the protocol, `until` later than `since`.
schema::Life life_of(const LifeSyntax& syntax, std::uint16_t newest, Reporter& reporter) {
  schema::Life life;
  const auto version = [&](const Number& number, std::string_view word, std::uint16_t none) {
    if (!number.written()) return none;
    if (number.num < 1) {
      reporter.error(number.place, "versions count from 1");
      return none;
    }
    if (number.num > newest) {
      reporter.error(number.place,
                     fmt::format("`{} {}` is beyond the protocol's version {}; raise the version "
                                 "in the first line",
                                 word, number.num, newest));
      return none;
    }
    return static_cast<std::uint16_t>(number.num);
  };
  life.since = version(syntax.since, "since", 1);
  life.until = version(syntax.until, "until", 0);
  if (life.until != 0 && life.until <= life.since) {
    reporter.error(syntax.until.place,
                   fmt::format("it would live in no version: `until {}` leaves version {} out and "
                               "it begins in {}",
                               life.until, life.until, life.since));
    life.until = 0;
  }
  return life;
}

namespace {

void report_unknown_name(const Token& stand_in, const std::vector<schema::Option>& options,
                         Reporter& reporter) {
  std::vector<std::string> known;
  known.reserve(options.size());
  for (const auto& option : options) known.push_back(option.name);
  const std::string near = bits::nearest(stand_in.text, known);
  reporter.error(stand_in, near.empty()
                               ? fmt::format("`{}` is none of these names", stand_in.text)
                               : fmt::format("`{}` is none of these names; did you mean `{}`?",
                                             stand_in.text, near));
}

// Each option gets the index of its stand-in, its own index if it has none. Returns whether all
// that need a stand-in have one.
bool take_stand_ins(const std::vector<OptionSyntax>& syntax, std::vector<schema::Option>& options,
                    Reporter& reporter) {
  bool sound = true;
  for (std::size_t i = 0; i < options.size(); ++i) {
    options[i].stand_in = static_cast<std::uint16_t>(i);
    const Token& stand_in = syntax[i].stand_in;
    if (stand_in.kind == TokenKind::end) {
      if (options[i].life.whole()) continue;
      sound = false;
      reporter.error(syntax[i].name,
                     fmt::format("some version does not know `{0}`; say what it is sent there, as "
                                 "in `{0} since {1} else {2}`",
                                 options[i].name, std::max<int>(2, options[i].life.since),
                                 options.front().name));
      continue;
    }
    const auto found = std::find_if(options.begin(), options.end(), [&](const auto& option) {
      return option.name == stand_in.text;
    });
    if (found == options.end()) {
      report_unknown_name(stand_in, options, reporter);
      sound = false;
    } else if (options[i].life.whole()) {
      reporter.error(stand_in, fmt::format("every version knows `{}`, so nothing stands in for it",
                                           options[i].name));
    } else {
      options[i].stand_in = static_cast<std::uint16_t>(found - options.begin());
    }
  }
  return sound;
}

}  // namespace

// `else NAME` names the value that older versions get instead; chains of them must end.
void resolve_stand_ins(const Token& place, const std::vector<OptionSyntax>& syntax,
                       std::vector<schema::Option>& options, std::uint16_t newest,
                       Reporter& reporter) {
  if (!take_stand_ins(syntax, options, reporter) || options.empty()) return;
  // Who lives changes at these versions only.
  std::set<std::uint16_t> changes{1};
  for (const auto& option : options) {
    changes.insert(option.life.since);
    if (option.life.until != 0) changes.insert(option.life.until);
  }
  std::vector<schema::Choice> choices;
  choices.reserve(options.size());
  for (const auto& option : options) choices.push_back({option.life, option.stand_in});
  for (const std::uint16_t version : changes) {
    if (version > newest) break;
    if (schema::choices_alive(choices, version) == 0) {
      return reporter.error(place, fmt::format("version {} has none of these names; leave at least "
                                               "one without `since` and `until`",
                                               version));
    }
    for (std::size_t i = 0; i < options.size(); ++i) {
      const std::size_t stands = schema::choice_standing_for(choices, version, i);
      if (choices[stands].life.alive(version)) continue;
      return reporter.error(syntax[i].stand_in,
                            fmt::format("version {} does not know what stands in for `{}` either",
                                        version, options[i].name));
    }
  }
}

// A flag that a version lacks is not set there: it needs no stand-in.
void check_flags(const std::vector<OptionSyntax>& syntax, Reporter& reporter) {
  for (const OptionSyntax& option : syntax) {
    if (option.stand_in.kind != TokenKind::end) {
      reporter.error(option.stand_in,
                     "a flag that a version does not know is not set there; it has no `else`");
    }
  }
}

}  // namespace kwind::language
