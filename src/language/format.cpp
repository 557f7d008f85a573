// Lays out a .kw file: prints the syntax tree in one form and puts each comment back to where it
// stood, above a line or at its end. A blank line between declarations or fields stays, several
// become one.
#include "kwind/language/format.h"

#include <fmt/format.h>

#include <algorithm>

#include "language/syntax.h"

namespace kwind::language {
namespace {

constexpr std::size_t kWidth = 100;

// A line of output: `head` is padded to that of its neighbours in the same column group.
struct Line {
  std::size_t indent = 0;
  std::string head;
  std::string tail;
  std::string comment;
  std::string group;  // lines with the same one, and no empty line between, are aligned
  bool blank_before = false;
};

class Formatter {
 public:
  Formatter(const Tokens& lexed, const std::vector<std::size_t>& starts)
      : tokens_(lexed.tokens), comments_(lexed.comments), starts_(starts) {}

  // Declaration by declaration, with the comments between them, then all columns are aligned.
  std::string text() {
    for (std::size_t i = 0; i < starts_.size(); ++i) {
      const std::size_t end = i + 1 < starts_.size() ? starts_[i + 1] : tokens_.size() - 1;
      const std::size_t first = lines_.size();
      declaration(starts_[i], end);
      // What takes several lines stands apart from its neighbours.
      const bool several = lines_.size() - first > 1 + leading_;
      if (first > 0 && (several || several_before_)) lines_[first].blank_before = true;
      several_before_ = several;
    }
    rest();
    return joined();
  }

 private:
  const Token& token(std::size_t i) const { return tokens_[i]; }
  bool is(std::size_t i, std::string_view text) const { return tokens_[i].text == text; }

  // The brace that closes the one at `open`.
  std::size_t matching(std::size_t open) const {
    int depth = 0;
    for (std::size_t i = open; i < tokens_.size(); ++i) {
      if (is(i, "{")) ++depth;
      if (is(i, "}") && --depth == 0) return i;
    }
    return tokens_.size() - 1;
  }

  // ---- comments ----

  // Puts out the comments that stand alone before token `end`, and takes the one behind the token
  // before `end` for the line just made. `indent` is that of the lines.
  void comments_until(std::size_t end, std::size_t indent) {
    const std::uint32_t line = end < tokens_.size() ? token(end).line : ~0U;
    const bool last = token(end).kind == TokenKind::end;
    while (next_comment_ < comments_.size() && (last || comments_[next_comment_].line < line)) {
      const Comment& comment = comments_[next_comment_++];
      if (!comment.alone && !lines_.empty() && lines_.back().comment.empty() && line_open_) {
        lines_.back().comment = comment.text.empty() ? "#" : fmt::format("# {}", comment.text);
        seen_line_ = std::max(seen_line_, comment.line);
        continue;
      }
      Line made;
      made.indent = indent;
      made.head = comment.text.empty() ? "#" : fmt::format("# {}", comment.text);
      made.blank_before = blank_before(comment.line);
      seen_line_ = comment.line;
      lines_.push_back(std::move(made));
      line_open_ = false;
    }
  }
  // The comment behind the line just made, if there is one.
  void comment_behind(std::size_t end) {
    if (next_comment_ == comments_.size() || comments_[next_comment_].alone || !line_open_) return;
    const bool last = token(end).kind == TokenKind::end;
    const Comment& comment = comments_[next_comment_];
    if (!last && comment.line >= token(end).line) return;
    lines_.back().comment = comment.text.empty() ? "#" : fmt::format("# {}", comment.text);
    seen_line_ = std::max(seen_line_, comment.line);
    ++next_comment_;
  }
  // Whether the source has an empty line before `line`.
  bool blank_before(std::uint32_t line) const { return seen_line_ > 0 && line > seen_line_ + 1; }

  // A block with a comment inside cannot stand in one line.
  bool comment_inside(std::size_t first, std::size_t last) const {
    return std::any_of(comments_.begin(), comments_.end(), [&](const Comment& comment) {
      return comment.line >= token(first).line && comment.line < token(last).line;
    });
  }

  // ---- tokens to text ----

  // Tokens between which no space stands.
  static bool tight(const Token& before, const Token& after) {
    const auto joins = [](const Token& t) {
      return t.text == ".." || t.text == "..<" || t.text == "/";
    };
    return joins(before) || joins(after) || after.text == "," ||
           (before.text == "-" && before.kind == TokenKind::symbol);
  }
  // Tokens first to end - 1 in one line.
  std::string flat(std::size_t first, std::size_t end) const {
    std::string out;
    for (std::size_t i = first; i < end; ++i) {
      const bool empty_body = i > first && is(i, "}") && is(i - 1, "{");
      if (i > first && !tight(token(i - 1), token(i)) && !empty_body) out += ' ';
      // Commas between the items of a body may be line breaks in the source.
      out += token(i).text;
      if (i + 1 < end && token(i + 1).first_on_line && !is(i, ",") && !is(i, "{") &&
          !is(i + 1, "}") && !is(i + 1, ",") && depth_at(first, i + 1) > 0 && starts_item(i + 1)) {
        out += ',';
      }
    }
    return out;
  }
  // How many braces are open at token `i`.
  int depth_at(std::size_t first, std::size_t i) const {
    int depth = 0;
    for (std::size_t k = first; k < i; ++k) {
      if (is(k, "{")) ++depth;
      if (is(k, "}")) --depth;
    }
    return depth;
  }
  // Whether an item of a body starts here, behind a line break: a field, a value or a case.
  bool starts_item(std::size_t i) const {
    if (token(i).kind != TokenKind::word) return false;
    if (is(i + 1, ":")) return true;
    static const std::vector<std::string_view> kWords = {"since", "until", "else"};
    return std::find(kWords.begin(), kWords.end(), token(i).text) == kWords.end() &&
           in_option_list(i);
  }
  // Whether the token stands between the braces of an enum or flags.
  bool in_option_list(std::size_t i) const {
    int depth = 0;
    while (i-- > 0) {
      if (is(i, "}")) ++depth;
      if (is(i, "{") && depth-- == 0) {
        return i > 0 &&
               (is(i - 1, "enum") || is(i - 1, "flags") || is(i - 1, "of") || is(i - 1, "refuse") ||
                (i > 1 && (is(i - 2, "enum") || is(i - 2, "flags"))));
      }
    }
    return false;
  }

  // A line has a head and a tail; tails of neighbouring lines with one group name are aligned.
  void start_line(std::size_t first, std::size_t indent, std::string head, std::string tail,
                  std::string group) {
    comments_until(first, indent);
    Line made;
    made.indent = indent;
    made.head = std::move(head);
    made.tail = std::move(tail);
    made.group = std::move(group);
    made.blank_before = blank_before(token(first).line);
    lines_.push_back(std::move(made));
    line_open_ = true;
  }
  void passed(std::size_t last) { seen_line_ = std::max(seen_line_, token(last).line); }

  // ---- structure ----

  // One declaration: in one line if it fits and has no comment inside, else a line for each item.
  void declaration(std::size_t first, std::size_t end) {
    const std::size_t before = lines_.size();
    comments_until(first, 0);
    leading_ = lines_.size() - before;
    const std::string keyword(token(first).text);
    if (keyword == "quantity" || keyword == "channel") {
      start_line(first, 0, flat(first, first + 2), flat(first + 2, end), keyword);
      passed(end - 1);
      comment_behind(end);
      return;
    }
    std::size_t from = first;
    std::size_t indent = 0;
    while (from < end) {
      std::size_t open = from;
      while (open < end && !is(open, "{")) ++open;
      if (open == end) {
        start_line(from, indent, flat(from, end), "", keyword);
        passed(end - 1);
        comment_behind(end);
        return;
      }
      const std::size_t close = matching(open);
      const bool options = keyword == "enum" || keyword == "flags" || is(from, "refuse");
      const std::string group = is(from, "reply") || is(from, "refuse") ? "answer" : keyword;
      body(from, open, close, indent, options, group);
      from = close + 1;
      indent = 2;
    }
    comment_behind(end);
  }

  // `first` to `open` - 1, and the body in braces after it.
  void body(std::size_t first, std::size_t open, std::size_t close, std::size_t indent,
            bool options, const std::string& group) {
    const std::string head = flat(first, open);
    const std::string whole = flat(open, close + 1);
    const bool one_line = token(first).line == token(close).line && !comment_inside(first, close) &&
                          indent + head.size() + 1 + whole.size() <= kWidth;
    if (one_line) {
      start_line(first, indent, head, whole, group == "message" ? "" : group);
      passed(close);
      return;
    }
    start_line(first, indent, head, "{", "");
    passed(open);
    std::size_t item = open + 1;
    while (item < close) {
      const std::size_t end = item_end(item, close, options);
      line_of(item, end, indent + 2, fmt::format("body {}", open));
      item = is(end, ",") ? end + 1 : end;
    }
    comments_until(close, indent + 2);
    lines_.push_back({indent, "}", "", "", "", false});
    line_open_ = true;
    passed(close);
  }

  // One field, value or case.
  void line_of(std::size_t first, std::size_t end, std::size_t indent, const std::string& group) {
    const bool named = is(first + 1, ":");
    std::size_t open = first;
    while (open < end && !is(open, "{")) ++open;
    const std::string flat_text = flat(first, end);
    const bool fits =
        token(first).line == token(end - 1).line ||
        (!comment_inside(first, end - 1) && indent + flat_text.size() <= kWidth && open == end);
    if (open == end || (fits && indent + flat_text.size() <= kWidth)) {
      if (named) {
        start_line(first, indent, std::string(token(first).text), flat(first + 1, end), group);
      } else {
        start_line(first, indent, flat_text, "", "");
      }
      passed(end - 1);
      return;
    }
    const std::size_t close = matching(open);
    body_inside(first, open, close, end, indent, named ? group : "");
  }

  // The lines of a block; blocks within it go through the same function.
  void body_inside(std::size_t first, std::size_t open, std::size_t close, std::size_t end,
                   std::size_t indent, const std::string& group) {
    start_line(first, indent, flat(first, first + 1), flat(first + 1, open) + " {", group);
    passed(open);
    std::size_t item = open + 1;
    while (item < close) {
      const std::size_t stop = item_end(item, close, true);
      line_of(item, stop, indent + 2, fmt::format("body {}", open));
      item = is(stop, ",") ? stop + 1 : stop;
    }
    comments_until(close, indent + 2);
    const std::string behind = flat(close + 1, end);
    lines_.push_back({indent, behind.empty() ? "}" : "} " + behind, "", "", "", false});
    line_open_ = true;
    passed(end - 1);
  }

  // Where the item that starts at `first` ends: at a comma, or where the next one starts.
  std::size_t item_end(std::size_t first, std::size_t close, bool options) const {
    int depth = 0;
    for (std::size_t i = first; i < close; ++i) {
      if (is(i, "{")) ++depth;
      if (is(i, "}")) --depth;
      if (depth > 0) continue;
      if (is(i, ",")) return i;
      if (i > first && token(i).kind == TokenKind::word && is(i + 1, ":")) return i;
      if (options && i > first && token(i).first_on_line && starts_item(i)) return i;
    }
    return close;
  }

  void rest() { comments_until(tokens_.size() - 1, 0); }

  // ---- output ----

  // Lines joined to the text that is written.
  std::string joined() {
    align();
    std::string out;
    for (std::size_t i = 0; i < lines_.size(); ++i) {
      const Line& line = lines_[i];
      if (line.blank_before && i > 0) out += '\n';
      std::string text = line.head;
      if (!line.tail.empty()) text += ' ' + line.tail;
      out += std::string(line.indent, ' ') + text;
      if (!line.comment.empty()) out += "  " + line.comment;
      out += '\n';
    }
    return out;
  }

  // Neighbouring lines of one group get tails that begin in the same column.
  void align() {
    for (std::size_t i = 0; i < lines_.size();) {
      std::size_t end = i + 1;
      if (lines_[i].group.empty() || lines_[i].tail.empty()) {
        ++i;
        continue;
      }
      std::size_t widest = lines_[i].head.size();
      while (end < lines_.size() && lines_[end].group == lines_[i].group &&
             lines_[end].indent == lines_[i].indent && !lines_[end].blank_before &&
             !lines_[end].tail.empty()) {
        widest = std::max(widest, lines_[end].head.size());
        ++end;
      }
      std::size_t longest = 0;  // of those with a comment behind them
      for (std::size_t k = i; k < end; ++k) {
        lines_[k].head.resize(widest, ' ');
        if (!lines_[k].comment.empty()) longest = std::max(longest, lines_[k].tail.size());
      }
      for (; i < end; ++i) {
        if (!lines_[i].comment.empty()) lines_[i].tail.resize(longest, ' ');
      }
    }
  }

  const std::vector<Token>& tokens_;
  const std::vector<Comment>& comments_;
  const std::vector<std::size_t>& starts_;
  std::vector<Line> lines_;
  std::size_t next_comment_ = 0;
  std::size_t leading_ = 0;  // comment lines before the declaration
  std::uint32_t seen_line_ = 0;
  bool line_open_ = false;  // the last line may take a comment
  bool several_before_ = false;
};

}  // namespace

// Comments and tokens of the text itself: included files are formatted on their own.
std::string format(std::string_view text) {
  std::vector<Diagnostic> errors;
  std::vector<std::unique_ptr<SourceFile>> files;
  files.push_back(std::make_unique<SourceFile>(SourceFile{"", std::string(text)}));
  // Included files do not matter here: an empty one stands for each.
  const FileSyntax syntax = parse(
      files, [](const std::string&) { return std::optional<std::string>(""); }, errors);
  errors.clear();
  const Tokens lexed = tokenize(text, 0, errors);
  return Formatter(lexed, syntax.starts).text();
}

}  // namespace kwind::language
