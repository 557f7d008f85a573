// Compiles a description in two passes: text to a syntax tree, with the files that it includes, and
// that to a protocol. Errors are gathered, and shown with the line that they are in.
#include "kwind/language/compile.h"

#include <fmt/format.h>

#include <algorithm>

#include "kwind/core/printable.h"
#include "language/syntax.h"

namespace kwind::language {

namespace {

using Files = std::vector<std::unique_ptr<SourceFile>>;

// `read` takes the files, the first of which is given.
Compiled read_files(std::string_view text, std::string_view name,
                    const std::function<void(Files&, Compiled&)>& read) {
  Compiled made;
  // Tokens point into the files, which therefore stay where they are until the end.
  Files files;
  files.push_back(std::make_unique<SourceFile>(SourceFile{std::string(name), std::string(text)}));
  if (text.size() > kMaxFileBytes) {
    made.errors.push_back(
        {1, 1, 1,
         fmt::format("the file is larger than {} bytes; split the protocol", kMaxFileBytes)});
  } else {
    read(files, made);
  }
  for (auto* all : {&made.errors, &made.hints}) {
    std::stable_sort(all->begin(), all->end(), [](const auto& a, const auto& b) {
      return std::tuple(a.file, a.line, a.column) < std::tuple(b.file, b.line, b.column);
    });
    if (all->size() > kMaxErrors) all->resize(kMaxErrors);
  }
  for (auto& file : files) made.files.push_back(std::move(*file));
  return made;
}

// Bytes of the character at the start of `text`; 0 if there is none.
std::size_t character_bytes(std::string_view text) {
  for (std::size_t bytes = 1; bytes <= std::min<std::size_t>(4, text.size()); ++bytes) {
    if (valid_utf8_prefix(text, bytes) == bytes) return bytes;
  }
  return 0;
}

}  // namespace

// Parse, then resolve: names, ranges and sizes are checked on the syntax tree. Errors leave the
// protocol incomplete.
Compiled compile(std::string_view text, std::string_view name, const Loader& load) {
  return read_files(text, name, [&](Files& files, Compiled& made) {
    const FileSyntax syntax = parse(files, load, made.errors);
    made.protocol = resolve(syntax, made.errors, made.hints);
  });
}

// Parses without resolving: for formatters, which must not fail on a missing include.
Compiled read_syntax(std::string_view text, std::string_view name, bool& names_protocol) {
  return read_files(text, name, [&](Files& files, Compiled& made) {
    const FileSyntax syntax = parse(
        files, [](const std::string&) { return std::optional<std::string>(""); }, made.errors,
        true);
    names_protocol = syntax.protocol_name.kind != TokenKind::end;
  });
}

// One diagnostic as compilers print it: file, line, column, the line itself and a marker below it.
std::string render(const Diagnostic& diagnostic, const Compiled& compiled,
                   std::string_view severity) {
  const SourceFile& file = compiled.files[diagnostic.file];
  std::string_view line = file.text;
  for (std::uint32_t i = 1; i < diagnostic.line; ++i) {
    const std::size_t end = line.find('\n');
    line = end == std::string_view::npos ? std::string_view{} : line.substr(end + 1);
  }
  line = line.substr(0, line.find('\n'));
  if (line.ends_with('\r')) line.remove_suffix(1);

  // Long lines are shown from a little before the place. Columns are counted in characters, so that
  // the carets stand under the right ones; control characters become blanks, and what would move
  // other text, or is no UTF-8, a question mark.
  constexpr std::size_t kWidth = 100;
  const std::size_t place = std::min<std::size_t>(diagnostic.column - 1, line.size());
  std::size_t begin = place > kWidth - 20 ? place - 40 : 0;
  while (begin > 0 && (static_cast<unsigned char>(line[begin]) & 0xc0) == 0x80) --begin;
  std::string shown;
  std::string under;
  const std::size_t end = std::min(line.size(), begin + kWidth);
  for (std::size_t i = begin; i < end;) {
    const std::size_t bytes = character_bytes(line.substr(i, end - i));
    const std::string_view character = line.substr(i, std::max<std::size_t>(bytes, 1));
    const auto first = static_cast<unsigned char>(character.front());
    i += character.size();
    if (character == "\xef\xbb\xbf" && i == character.size()) continue;  // a byte order mark
    if (first < 0x20 || first == 0x7f) {
      shown += ' ';
    } else {
      shown += printable(character) == character ? character : "?";
    }
    if (i <= place) {
      under += ' ';
    } else if (i <= place + diagnostic.length) {
      under += '^';
    }
  }
  if (!under.ends_with('^')) under += '^';
  return fmt::format("{}:{}:{}: {}: {}\n {:>5} | {}\n       | {}\n", file.name, diagnostic.line,
                     diagnostic.column, severity, diagnostic.message, diagnostic.line, shown,
                     under);
}

}  // namespace kwind::language
