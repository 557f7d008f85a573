// Code tables as text. docs/code-tables.md has the form.
//
// Serialises prefix-code tables. A canonical prefix code is defined by the lengths of its codes
// alone (as in RFC 1951, 3.2.2), so a line holds lengths, with runs as `LENGTHxCOUNT`:
//   Tug residual at[0] 1 3x2 4x4 5 5
// Files are read from disk and are not trusted: each line is checked against the description,
// lengths against the Kraft inequality, and the whole against its digest.
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
constexpr std::string_view kFirstWords = "kwind code tables 3 for ";
constexpr std::string_view kHeads = "snapshot heads";

// What a line calls an alphabet, behind the name of the kind.
std::string name_of_column(const schema::EntityInfo& info, std::size_t column) {
  const std::uint16_t field = info.columns[column].field;
  // Back to the first column of the same field.
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
  // One alphabet for each age of a baseline, in ticks.
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

// The lengths of a code, with runs as `LENGTHxCOUNT`. The codes follow from the lengths.
std::string lengths_text(const PrefixCode& code) {
  std::string text;
  // One run of equal lengths in each pass.
  for (std::size_t i = 0; i < code.symbols();) {
    std::size_t run = 1;
    while (i + run < code.symbols() && code.bits(i + run) == code.bits(i)) ++run;
    text += run > 1 ? fmt::format(" {}x{}", code.bits(i), run) : fmt::format(" {}", code.bits(i));
    i += run;
  }
  return text;
}

// A whole word of digits, and nothing else.
std::optional<std::size_t> number(std::string_view text) {
  std::size_t value = 0;
  // Signs, blanks and other characters are refused.
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

// Takes the next word off the front of the line; empty at its end.
std::string_view take_word(std::string_view& text) {
  text.remove_prefix(std::min(text.find_first_not_of(' '), text.size()));
  const std::string_view word = text.substr(0, text.find(' '));
  text.remove_prefix(word.size());
  return word;
}

// The lengths of `symbols` symbols; nothing if there are more or fewer, or no numbers.
std::optional<std::vector<std::uint8_t>> lengths_of(std::string_view text, std::size_t symbols) {
  std::vector<std::uint8_t> lengths;
  // A length or a run in each pass. Invariant: lengths.size() <= symbols.
  for (std::string_view word = take_word(text); !word.empty(); word = take_word(text)) {
    // A run may not exceed the symbols that are left: a file cannot claim memory that it does not
    // fill.
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
  // Lines are sorted by name, so that two files of the same tables have the same bytes.
  std::map<std::string, std::string> lines{
      {std::string(kHeads), lengths_text(codes.inside().heads)}};
  // Three passes: alphabets, predictors, then the text in the order of the names.
  for (std::size_t k = 0; k < entities.types.size(); ++k) {
    if (!entities.has(k)) continue;
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

namespace {

// Reads lines into tables that begin as the built-in ones. What the description wants stands in two
// maps, and leaves them when its line was read: a line that stands twice is unknown the second time,
// and what is left at the end is missing.
class TextReader {
 public:
  explicit TextReader(const schema::EntitiesInfo& entities)
      : made_(CodeTables(SymbolCounts::expected(entities)).inside()),
        wanted_{{std::string(kHeads), &made_.heads}} {
    for (std::size_t k = 0; k < entities.types.size(); ++k) {
      // All lines that a file must have.
      if (!entities.has(k)) continue;
      const schema::EntityInfo& info = *entities.types[k];
      each_alphabet(info, made_.types[k], [&](std::string name, PrefixCode& code) {
        wanted_.emplace(std::move(name), &code);
      });
      for (std::size_t c = 0; c < info.columns.size(); ++c) {
        const PredictorChoice choice = predictors_of(info, c);
        if (choice.all == 1) continue;
        columns_.emplace(predictor_line(info, c), Predicted{&made_.types[k].predictors[c], choice});
      }
    }
  }

  // One line but the first. Returns what is wrong with it; nothing if it is right.
  std::string read(std::string_view rest) {
    std::string name(take_word(rest));
    if (name == "digest") {
      digest_ = take_word(rest);
      return {};
    }
    if (name == "snapshots") return read_snapshots(take_word(rest));
    // The first words decide how many words the name has.
    // TYPE continuing AGE, TYPE unexpected AGE, or TYPE residual COLUMN AGE.
    const std::string_view what = take_word(rest);
    name += fmt::format(" {}", what);
    if (name != kHeads) name += fmt::format(" {}", take_word(rest));
    if (what == "predictor") return read_predictor(name, take_word(rest));
    if (what == "residual") name += fmt::format(" {}", take_word(rest));
    return read_lengths(name, rest);
  }

  // A name that no line had; empty if there is none.
  [[nodiscard]] std::string missing() const {
    if (!wanted_.empty()) return wanted_.begin()->first;
    return columns_.empty() ? std::string() : columns_.begin()->first;
  }
  [[nodiscard]] std::string_view digest() const { return digest_; }
  CodeTables::Inside take() { return std::move(made_); }

 private:
  struct Predicted {
    Predictor* predictor;
    PredictorChoice choice;
  };

  std::string read_snapshots(std::string_view modes) {
    if (modes != kExact && modes != kSpeculative) {
      return fmt::format("`snapshots` is `{}` or `{}`; train the tables again with `kwind train`",
                         kExact, kSpeculative);
    }
    made_.trained_on =
        modes == kExact ? SnapshotModes::exact : SnapshotModes::speculative_baselines;
    return {};
  }
  std::string read_predictor(const std::string& name, std::string_view word) {
    const auto column = columns_.find(name);
    const auto predictor = predictor_named(word);
    if (column == columns_.end() || !predictor || !column->second.choice.has(*predictor)) {
      return fmt::format(
          "the description has no `{}`, or it cannot be `{}`; train the tables again with `kwind "
          "train`",
          name, word);
    }
    *column->second.predictor = *predictor;
    columns_.erase(column);
    return {};
  }
  std::string read_lengths(const std::string& name, std::string_view rest) {
    const auto found = wanted_.find(name);
    if (found == wanted_.end()) {
      return fmt::format(
          "the description has no `{}`, or the line stands here twice; train the tables again with "
          "`kwind train`",
          name);
    }
    // The number of symbols is the description's: a line cannot claim another one.
    const auto lengths = lengths_of(rest, found->second->symbols());
    auto code = lengths ? PrefixCode::of_lengths(*lengths) : std::nullopt;
    if (!code) {
      return fmt::format(
          "`{}` needs the lengths of {} codes that make a prefix code; train the tables again with "
          "`kwind train`",
          name, found->second->symbols());
    }
    *found->second = std::move(*code);
    wanted_.erase(found);
    return {};
  }

  CodeTables::Inside made_;
  std::map<std::string, PrefixCode*> wanted_;  // into made_
  std::map<std::string, Predicted> columns_;   // into made_
  std::string_view digest_;
};

}  // namespace

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
  TextReader reader(entities);
  // One line in each pass; the first wrong one ends it.
  for (std::size_t number_of_line = 1; !text.empty(); ++number_of_line) {
    const std::string_view line = text.substr(0, text.find('\n'));
    text.remove_prefix(std::min(line.size() + 1, text.size()));
    if (number_of_line == 1 || line.empty()) continue;
    std::string wrong = reader.read(line);
    if (!wrong.empty()) return problem(number_of_line, std::move(wrong));
  }
  if (const std::string missing = reader.missing(); !missing.empty()) {
    return problem(
        0,
        fmt::format("`{}` of the description is missing; train the tables again with `kwind train`",
                    missing));
  }
  auto codes = std::make_shared<const CodeTables>(reader.take());
  // The digest covers the tables, not the text: comments and the order of lines do not matter.
  if (reader.digest() != fmt::format("{:016x}", codes->digest())) {
    return problem(
        2,
        "the digest is not the digest of these tables: the file was changed by hand, or its "
        "end is missing; train the tables again with `kwind train`");
  }
  return codes;
}

}  // namespace kwind::replica
