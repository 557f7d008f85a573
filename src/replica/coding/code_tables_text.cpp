// Code tables as text. docs/code-tables.md has the form.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <map>

#include "kwind/replica/code_tables.h"
#include "replica/coding/code_tables.h"

namespace kwind::replica {
namespace {

constexpr std::string_view kExact = "exact";
constexpr std::string_view kSpeculative = "speculative";
constexpr std::string_view kFirstWords = "kwind code tables 2 for ";
constexpr std::string_view kHeads = "snapshot heads";

// What a line calls an alphabet, behind the name of the kind.
std::string name_of_column(const schema::EntityInfo& info, std::size_t column) {
  const std::uint16_t field = info.columns[column].field;
  std::size_t first = column;
  while (first > 0 && info.columns[first - 1].field == field) --first;
  const bool several = column + 1 < info.columns.size() && info.columns[column + 1].field == field;
  const std::string name(info.fields[field].name);
  return first < column || several ? fmt::format("residual {}[{}]", name, column - first)
                                   : fmt::format("residual {}", name);
}

// What the line of a column's predictor begins with.
std::string predictor_line(const schema::EntityInfo& info, std::size_t column) {
  std::string name = name_of_column(info, column);
  return fmt::format("{} predictor {}", info.name, name.substr(name.find(' ') + 1));
}

// All alphabets of a set, by what their lines begin with.
template <class Type, class Take>
void each_alphabet(const schema::EntityInfo& info, Type& type, const Take& take) {
  for (std::size_t age = 0; age < SymbolCounts::kAges; ++age) {
    const auto line = [&](std::string_view what) {
      return fmt::format("{} {} {}", info.name, what, age + 1);
    };
    take(line("continuing"), type.continuing[age]);
    take(line("unexpected"), type.unexpected[age]);
    for (std::size_t c = 0; c < type.errors.size(); ++c) {
      take(line(name_of_column(info, c)), type.errors[c][age]);
    }
  }
}

std::string lengths_text(const PrefixCode& code) {
  std::string text;
  for (std::size_t i = 0; i < code.symbols();) {
    std::size_t run = 1;
    while (i + run < code.symbols() && code.bits(i + run) == code.bits(i)) ++run;
    text += run > 1 ? fmt::format(" {}x{}", code.bits(i), run) : fmt::format(" {}", code.bits(i));
    i += run;
  }
  return text;
}

std::optional<std::size_t> number(std::string_view text) {
  std::size_t value = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (text.empty() || error != std::errc{} || end != text.data() + text.size()) return std::nullopt;
  return value;
}

std::optional<Predictor> predictor_named(std::string_view name) {
  for (std::size_t p = 0; p < kPredictors; ++p) {
    if (name_of(static_cast<Predictor>(p)) == name) return static_cast<Predictor>(p);
  }
  return std::nullopt;
}

std::string_view take_word(std::string_view& text) {
  text.remove_prefix(std::min(text.find_first_not_of(' '), text.size()));
  const std::string_view word = text.substr(0, text.find(' '));
  text.remove_prefix(word.size());
  return word;
}

// The lengths of `symbols` symbols; nothing if there are more or fewer, or no numbers.
std::optional<std::vector<std::uint8_t>> lengths_of(std::string_view text, std::size_t symbols) {
  std::vector<std::uint8_t> lengths;
  for (std::string_view word = take_word(text); !word.empty(); word = take_word(text)) {
    const std::size_t times = word.find('x');
    const auto length = number(word.substr(0, times));
    const auto run = times == std::string_view::npos ? 1 : number(word.substr(times + 1));
    if (!length || *length > PrefixCode::kLongest || !run || *run > symbols - lengths.size()) {
      return std::nullopt;
    }
    lengths.insert(lengths.end(), *run, static_cast<std::uint8_t>(*length));
  }
  if (lengths.size() != symbols) return std::nullopt;
  return lengths;
}

}  // namespace

std::string text_of(const CodeTables& codes, const schema::EntitiesInfo& entities,
                    std::string_view protocol) {
  std::map<std::string, std::string> lines{
      {std::string(kHeads), lengths_text(codes.inside().heads)}};
  for (std::size_t k = 0; k < entities.types.size(); ++k) {
    each_alphabet(*entities.types[k], codes.inside().types[k],
                  [&](std::string name, const PrefixCode& code) {
                    lines.emplace(std::move(name), lengths_text(code));
                  });
  }
  for (std::size_t k = 0; k < entities.types.size(); ++k) {
    const schema::EntityInfo& info = *entities.types[k];
    for (std::size_t c = 0; c < info.columns.size(); ++c) {
      if (predictors_of(info, c).all == 1) continue;
      lines.emplace(predictor_line(info, c),
                    fmt::format(" {}", name_of(codes.inside().types[k].predictors[c])));
    }
  }
  std::string text = fmt::format("{}{}\ndigest {:016x}\n", kFirstWords, protocol, codes.digest());
  if (const auto trained = codes.trained_on()) {
    text += fmt::format("snapshots {}\n", *trained == SnapshotModes::exact ? kExact : kSpeculative);
  }
  for (const auto& [name, lengths] : lines) text += fmt::format("{}{}\n", name, lengths);
  return text;
}

tl::expected<std::shared_ptr<const CodeTables>, CodeTextProblem> read_codes(
    std::string_view text, const schema::EntitiesInfo& entities) {
  const auto problem = [](std::size_t line, std::string sentence) {
    return tl::unexpected(CodeTextProblem{line, std::move(sentence)});
  };
  if (!text.starts_with(kFirstWords)) {
    return problem(1, fmt::format("not a file of code tables: the first line does not begin with "
                                  "`{}`; make one with `kwind train`",
                                  kFirstWords));
  }
  const CodeTables built_in(SymbolCounts::expected(entities));
  CodeTables::Inside made = built_in.inside();
  std::map<std::string, PrefixCode*> wanted{{std::string(kHeads), &made.heads}};
  for (std::size_t k = 0; k < entities.types.size(); ++k) {
    each_alphabet(*entities.types[k], made.types[k], [&](std::string name, PrefixCode& code) {
      wanted.emplace(std::move(name), &code);
    });
  }
  struct Predicted {
    Predictor* predictor;
    PredictorChoice choice;
  };
  std::map<std::string, Predicted> columns;
  for (std::size_t k = 0; k < entities.types.size(); ++k) {
    const schema::EntityInfo& info = *entities.types[k];
    for (std::size_t c = 0; c < info.columns.size(); ++c) {
      const PredictorChoice choice = predictors_of(info, c);
      if (choice.all == 1) continue;
      columns.emplace(predictor_line(info, c), Predicted{&made.types[k].predictors[c], choice});
    }
  }
  std::string_view digest;
  std::size_t number_of_line = 0;
  while (!text.empty()) {
    std::string_view line = text.substr(0, text.find('\n'));
    text.remove_prefix(std::min(line.size() + 1, text.size()));
    ++number_of_line;
    if (number_of_line == 1 || line.empty()) continue;
    std::string_view rest = line;
    std::string name(take_word(rest));
    if (name == "digest") {
      digest = take_word(rest);
      continue;
    }
    if (name == "snapshots") {
      const std::string_view types = take_word(rest);
      if (types != kExact && types != kSpeculative) {
        return problem(
            number_of_line,
            fmt::format("`snapshots` is `{}` or `{}`; train the tables again with `kwind train`",
                        kExact, kSpeculative));
      }
      made.trained_on =
          types == kExact ? SnapshotModes::exact : SnapshotModes::speculative_baselines;
      continue;
    }
    // TYPE continuing AGE, TYPE unexpected AGE, or TYPE residual COLUMN AGE.
    const std::string_view what = take_word(rest);
    name += fmt::format(" {}", what);
    if (name != kHeads) name += fmt::format(" {}", take_word(rest));
    if (what == "predictor") {
      const auto column = columns.find(name);
      const std::string_view word = take_word(rest);
      const auto predictor = predictor_named(word);
      if (column == columns.end() || !predictor || !column->second.choice.has(*predictor)) {
        return problem(number_of_line,
                       fmt::format("the description has no `{}`, or it cannot be `{}`; train the "
                                   "tables again with `kwind train`",
                                   name, word));
      }
      *column->second.predictor = *predictor;
      columns.erase(column);
      continue;
    }
    if (what == "residual") name += fmt::format(" {}", take_word(rest));
    const auto found = wanted.find(name);
    if (found == wanted.end()) {
      return problem(number_of_line,
                     fmt::format("the description has no `{}`, or the line stands here twice; "
                                 "train the tables again with `kwind train`",
                                 name));
    }
    const auto lengths = lengths_of(rest, found->second->symbols());
    auto code = lengths ? PrefixCode::of_lengths(*lengths) : std::nullopt;
    if (!code) {
      return problem(number_of_line,
                     fmt::format("`{}` needs the lengths of {} codes that make a prefix code; "
                                 "train the tables again with `kwind train`",
                                 name, found->second->symbols()));
    }
    *found->second = std::move(*code);
    wanted.erase(found);
  }
  const auto missing = !wanted.empty()    ? wanted.begin()->first
                       : !columns.empty() ? columns.begin()->first
                                          : std::string();
  if (!missing.empty()) {
    return problem(
        0,
        fmt::format("`{}` of the description is missing; train the tables again with `kwind train`",
                    missing));
  }
  auto codes = std::make_shared<const CodeTables>(std::move(made));
  if (digest != fmt::format("{:016x}", codes->digest())) {
    return problem(
        2,
        "the digest is not the digest of these tables: the file was changed by hand, or its "
        "end is missing; train the tables again with `kwind train`");
  }
  return codes;
}

}  // namespace kwind::replica
