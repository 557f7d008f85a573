#include "kwind/language/compile.h"

#include <fmt/format.h>

#include <algorithm>

#include "kwind/schema/codec.h"
#include "syntax.h"

namespace kwind::language {

Compiled compile(std::string_view text) {
  Compiled made;
  if (text.size() > kMostFileBytes) {
    made.errors.push_back(
        {1, 1, 1,
         fmt::format("the file is larger than {} bytes; split the protocol", kMostFileBytes)});
    return made;
  }
  const std::vector<Token> tokens = tokenize(text, made.errors);
  if (tokens.size() == 1 && made.errors.empty()) {
    made.errors.push_back(
        {1, 1, 1, "the file is empty; it must start with `protocol NAME VERSION`"});
    return made;
  }
  const FileSyntax file = parse(tokens, made.errors);
  made.protocol = resolve(file, made.errors);
  std::stable_sort(made.errors.begin(), made.errors.end(), [](const auto& a, const auto& b) {
    return std::pair(a.line, a.column) < std::pair(b.line, b.column);
  });
  if (made.errors.size() > kMostErrors) made.errors.resize(kMostErrors);
  return made;
}

std::string render(const Diagnostic& diagnostic, std::string_view file_name,
                   std::string_view text) {
  std::string_view line = text;
  for (std::uint32_t i = 1; i < diagnostic.line; ++i) {
    const std::size_t end = line.find('\n');
    line = end == std::string_view::npos ? std::string_view{} : line.substr(end + 1);
  }
  line = line.substr(0, line.find('\n'));
  if (line.ends_with('\r')) line.remove_suffix(1);

  // Long lines are shown from a little before the place; control characters become blanks, and
  // columns are counted in characters so that the caret stands under the right one.
  constexpr std::size_t kWidth = 100;
  const std::size_t place = std::min<std::size_t>(diagnostic.column - 1, line.size());
  std::size_t begin = place > kWidth - 20 ? place - 40 : 0;
  while (begin > 0 && (static_cast<unsigned char>(line[begin]) & 0xc0) == 0x80) --begin;
  std::string shown;
  std::string under;
  const std::size_t end = std::min(line.size(), begin + kWidth);
  for (std::size_t i = begin; i < end; ++i) {
    const auto byte = static_cast<unsigned char>(line[i]);
    const bool printable = byte >= 0x20 && byte != 0x7f;
    const std::size_t character =
        printable ? schema::valid_utf8_prefix(line.substr(i, std::min<std::size_t>(4, end - i)), 4)
                  : 1;
    shown += !printable ? ' ' : (character > 0 || (byte & 0xc0) == 0x80) ? line[i] : '?';
    if (i < place && (byte & 0xc0) != 0x80) under += ' ';
  }
  const std::size_t carets = std::clamp<std::size_t>(
      diagnostic.length, 1, std::max<std::size_t>(1, end - std::min(end, place)));
  under.append(carets, '^');
  return fmt::format("{}:{}:{}: error: {}\n {:>5} | {}\n       | {}\n", file_name, diagnostic.line,
                     diagnostic.column, diagnostic.message, diagnostic.line, shown, under);
}

}  // namespace kwind::language
