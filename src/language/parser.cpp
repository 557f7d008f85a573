// Recursive descent over the tokens. After an error it goes on at the next field or declaration, so
// that one slip does not hide the others.
//
// Grammar: docs/schema-language.md, section "Grammar". One token of lookahead decides, two where a
// field's name may be a word of the language. Types are read by the base class (type_parser.cpp).
// Errors: a function that cannot continue throws Recover, which carries nothing: the error has
// been reported. The loops of file() and fields() catch it and skip to a place where a declaration
// or a field begins (panic mode, as in the textbook on compilers).
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <memory>

#include "language/type_parser.h"

namespace kwind::language {
namespace {

// A chain of includes this long is a mistake, and bounds the depth of recursion.
constexpr int kDeepestInclude = 16;

bool contains(const std::vector<std::string>& words, std::string_view word) {
  return std::find(words.begin(), words.end(), word) != words.end();
}

// What all files of one compilation share.
struct Reading {
  std::vector<std::unique_ptr<SourceFile>>& files;
  const Loader& load;
  FileSyntax made;
  int depth = 0;
  bool seen_protocol = false;
  bool part = false;  // a file that is made to be included, by itself
};

// Includes are relative to the file that includes.
std::string beside(const std::string& including, std::string_view name) {
  // One file has one name, however it is spelled.
  namespace fs = std::filesystem;
  return (fs::path(including).parent_path() / fs::path(name)).lexically_normal().generic_string();
}

class Parser : private TypeParser {
 public:
  Parser(Reading& reading, const Tokens& lexed, std::uint16_t file, std::vector<Diagnostic>& errors)
      : TypeParser(lexed, errors), reading_(reading), file_(file) {}

  // Declaration by declaration. After an error parsing goes on with the next declaration, so that
  // one run reports several errors.
  void file() {
    // Each pass consumes at least one token, so it ends.
    while (!at_end() && errors().size() < kMaxErrors) {
      const std::size_t start = place();
      try {
        declaration();
      } catch (const Recover&) {
        if (place() == start) next();
        skip_to_declaration();
      }
    }
  }

 private:
  FileSyntax& made() { return reading_.made; }

  // ---- declarations ----

  // The first word decides; each kind of declaration has a function of its own.
  void declaration() {
    const Token start = peek();
    // Numbers and punctuation begin no declaration.
    if (start.kind != TokenKind::word) stop_expected("a declaration");
    if (!contains(declaration_words(), start.text)) {
      stop_unknown(start, "the start of a declaration", declaration_words());
    }
    next();
    begin_declaration(start);
    // Where the declarations of the first file begin: the formatter keeps them apart by blank
    // lines.
    if (file_ == 0) made().starts.push_back(place() - 1);
    if (start.text == "protocol") return protocol(start);
    if (!reading_.seen_protocol && !reading_.part) {
      reading_.seen_protocol = true;
      report(start, "the file must start with `protocol NAME VERSION`");
    }
    if (start.text == "include") return include();
    if (start.text == "quantity") return quantity();
    if (start.text == "enum") return options(start, made().enums, "enum");
    if (start.text == "flags") return options(start, made().flags, "flags");
    if (start.text == "record") return record(start);
    if (start.text == "channel") return channel(start);
    if (start.text == "entity") return entity(start);
    return message(start, start.text == "request");
  }

  // Once in a file, before all else, in the file that was named.
  void protocol(const Token& start) {
    if (file_ != 0) {
      report(start,
             "an included file has declarations only; the including file names the protocol");
    } else if (made().protocol_name.kind != TokenKind::end) {
      report(start, "the protocol has been named already; one file has one");
    }
    reading_.seen_protocol = true;
    const Token name = value_name("the name of the protocol");
    const Number version = whole_number("the version, a number from 1");
    if (file_ == 0 && made().protocol_name.kind == TokenKind::end) {
      made().protocol_name = name;
      made().version = version;
      made().doc = doc_of_declaration(start);
    }
    while (accept(",")) {
      const Token limit = word("`entities up to N` or `peers up to N`");
      static const std::vector<std::string> kLimits = {"entities", "peers"};
      if (!contains(kLimits, limit.text)) stop_unknown(limit, "a limit of the protocol", kLimits);
      if (!accept("up", "to")) stop_expected("`up to N`");
      Number& to = limit.text == "entities" ? made().entities : made().peers;
      if (to.written()) said_twice(limit);
      to = whole_number("the most that there are at a time");
    }
  }

  // Each file is read once, however often it is included.
  void include() {
    const Token name = peek();
    if (name.kind != TokenKind::string) stop_expected("a file name in quotes, as in \"marks.kw\"");
    next();
    auto& files = reading_.files;
    const std::string path = beside(files[file_]->name, name.text.substr(1, name.text.size() - 2));
    // A file that is included twice is read once: descriptions need no guards.
    for (const auto& file : files) {
      if (file->name == path) return;  // once is enough
    }
    if (reading_.depth >= kDeepestInclude || files.size() >= kMaxFiles) {
      return report(name, fmt::format("more than {} files, or includes more than {} deep",
                                      kMaxFiles, kDeepestInclude));
    }
    auto text = reading_.load ? reading_.load(path) : std::nullopt;
    if (!text) {
      return report(name, fmt::format("cannot read `{}`; the name is taken from the folder of this "
                                      "file",
                                      path));
    }
    // The limit holds for all files together: a small file cannot pull in a large tree.
    std::size_t bytes = text->size();
    for (const auto& file : files) bytes += file->text.size();
    if (bytes > kMaxFileBytes) {
      return report(name,
                    fmt::format("the files are larger than {} bytes together", kMaxFileBytes));
    }
    const auto number = static_cast<std::uint16_t>(files.size());
    files.push_back(std::make_unique<SourceFile>(SourceFile{path, std::move(*text)}));
    ++reading_.depth;
    const Tokens lexed = tokenize(files.back()->text, number, errors());
    Parser(reading_, lexed, number, errors()).file();
    --reading_.depth;
  }

  // A name for a type with its unit: no type of its own.
  void quantity() {
    QuantitySyntax quantity;
    quantity.name = type_name("the name of the quantity");
    expect("=");
    quantity.type = type();
    made().quantities.push_back(std::move(quantity));
  }

  // Enums and flags with a name.
  void options(const Token& start, std::vector<OptionsSyntax>& all, std::string_view word) {
    OptionsSyntax syntax;
    syntax.name = type_name(fmt::format("the name of the {}", word));
    syntax.options = option_list(false);
    syntax.doc = doc_of_declaration(start);
    all.push_back(std::move(syntax));
  }

  // Fields with a name, used by other declarations.
  void record(const Token& start) {
    RecordSyntax syntax;
    syntax.name = type_name("the name of the record");
    syntax.fields = fields();
    syntax.doc = doc_of_declaration(start);
    made().records.push_back(std::move(syntax));
  }

  // Delivery first, then words in any order, each at most once.
  void channel(const Token& start) {
    static const std::vector<std::string> kDeliveries = {"unreliable", "sequenced", "reliable",
                                                         "ordered"};
    // Kept even if its delivery is wrong, so that messages on it are not reported too.
    ChannelSyntax& syntax = made().channels.emplace_back();
    syntax.name = value_name("the name of the channel");
    const Token delivery = word("a delivery: unreliable, sequenced, reliable or ordered");
    if (!contains(kDeliveries, delivery.text)) stop_unknown(delivery, "a delivery", kDeliveries);
    syntax.delivery = delivery.text == "unreliable"  ? Delivery::unreliable
                      : delivery.text == "sequenced" ? Delivery::sequenced
                      : delivery.text == "reliable"  ? Delivery::reliable
                                                     : Delivery::ordered;
    // Words of a channel stand on its line. A word that begins the next declaration ends them.
    while (!at_end() && !peek().first_on_line && !starts_declaration(false)) {
      static const std::vector<std::string> kWords = {"repeat", "priority", "bulk", "since",
                                                      "until"};
      const Token option = word("`repeat N`, `priority high`, `bulk`, `since N` or `until N`");
      if (option.text == "repeat") {
        if (syntax.repeat.written()) said_twice(option);
        syntax.repeat = whole_number("how many messages each datagram repeats");
        if (syntax.delivery != Delivery::sequenced) {
          report(option, "only a sequenced channel repeats; the others have no newest message");
        }
      } else if (option.text == "priority") {
        if (!accept("high")) stop_expected("`high`");
        syntax.high = true;
      } else if (option.text == "bulk") {
        syntax.bulk = true;
      } else if (!life_word(option, syntax.life)) {
        stop_unknown(option, "a word of a channel", kWords);
      }
      if (syntax.high && syntax.bulk) report(option, "a channel is either priority high or bulk");
    }
    syntax.doc = doc_of_declaration(start);
  }

  // A message or a request; a request's answer follows its fields.
  void message(const Token& start, bool request) {
    MessageSyntax syntax;
    syntax.request = request;
    syntax.name = type_name(request ? "the name of the request" : "the name of the message");
    try {
      message_head(syntax);
    } catch (const Recover&) {  // its fields may hold further errors
      // The braces are looked for, so that the fields are read even if the head is wrong.
      syntax.whole = false;
      while (!is("{") && !at_end() && !starts_declaration()) next();
      if (!is("{")) throw;
    }
    syntax.fields = fields();
    syntax.doc = doc_of_declaration(start);
    if (request) answer(syntax);
    made().messages.push_back(std::move(syntax));
  }

  // `reply { ... }`, and `refuse { ... }` if the server may refuse.
  void answer(MessageSyntax& syntax) {
    // A request without a reply would never end.
    if (!accept("reply")) {
      syntax.whole = false;
      stop_expected("`reply { ... }` behind the fields of the request");
    }
    syntax.reply = fields();
    if (accept("refuse")) syntax.refusals = option_list(false);
  }

  // Sender, channel, rate, `split` and life.
  void message_head(MessageSyntax& syntax) {
    static const std::vector<std::string> kSenders = {"client", "server", "both", "owner"};
    if (!accept("from")) stop_expected("`from client`, `from server` or `from both`");
    const Token sender = word("client, server, both or owner of FIELD");
    if (!contains(kSenders, sender.text)) stop_unknown(sender, "a sender", kSenders);
    syntax.direction = sender.text == "server" ? schema::Direction::from_server
                       : sender.text == "both" ? schema::Direction::both
                                               : schema::Direction::from_client;
    if (sender.text == "owner") {
      if (!accept("of")) stop_expected("`of` and the field that names what the sender owns");
      syntax.owner = value_name("the field that names what the sender owns");
    }
    if (!accept("on")) stop_expected("`on` and the name of a channel");
    syntax.channel = word("the name of a channel");
    while (accept(",")) {
      static const std::vector<std::string> kClauses = {"at", "split"};
      const Token clause = word("`at most N/s` or `split`");
      if (clause.text == "split") {
        if (syntax.split) said_twice(clause);
        syntax.split = true;
      } else if (clause.text == "at") {
        if (syntax.at_most.written()) said_twice(clause);
        syntax.at_most = rate("how many messages a second");
      } else {
        stop_unknown(clause, "`at most N/s` or `split`", kClauses);
      }
    }
    life(syntax.life);
  }

  // Behind `at`.
  Number rate(const std::string& what) {
    if (!accept("most")) stop_expected("`most`, as in `at most 60/s`");
    const Number found = whole_number(what);
    if (!accept("/") || !accept("s")) stop_expected("`/s`, as in `at most 60/s`");
    return found;
  }

  // A rate and a life, then fields with the words of entities.
  void entity(const Token& start) {
    EntitySyntax syntax;
    syntax.name = type_name("the name of the entity");
    while (accept(",")) {
      const Token clause = peek();
      if (accept("at")) {
        if (syntax.at_most.written()) said_twice(clause);
        syntax.at_most = rate("how often a second its changes are sent");
      } else if (accept("urgent") || accept("lazy")) {
        if (syntax.freshness.text == clause.text) said_twice(clause);
        if (!syntax.freshness.text.empty() && syntax.freshness.text != clause.text) {
          report(clause, "an entity is `urgent` or `lazy`, not both");
        }
        syntax.freshness = clause;
      } else {
        stop_expected("`at most N/s`, `urgent` or `lazy`");
      }
    }
    life(syntax.life);
    syntax.fields = fields();
    syntax.doc = doc_of_declaration(start);
    made().entities_declared.push_back(std::move(syntax));
  }

  // ---- bodies ----

  // Fields are separated by commas or line ends; a wrong one is reported, and the next one is read.
  std::vector<FieldSyntax> fields() {
    std::vector<FieldSyntax> all;
    const Token open = peek();
    expect("{");
    // Each pass reads a field, or skips to the next one, or ends at the brace.
    while (!is("}")) {
      if (at_end() || starts_declaration()) {
        report(open, "this `{` is never closed");
        return all;
      }
      try {
        all.push_back(field());
      } catch (const Recover&) {
        skip_to_field();
      }
    }
    next();
    return all;
  }

  // `name : type`, then unit, default, words and life in any order.
  FieldSyntax field() {
    FieldSyntax syntax;
    syntax.name = value_name("the name of a field or `}`");
    const Token first = last();
    expect(":");
    // `client` and `server` are names of types nowhere else.
    if ((is("client") || is("server")) && peek(1).text == "local") {
      // of a type that only game code knows
    } else {
      syntax.type = type();
      if (accept("=")) syntax.initial = initial();
    }
    // Words of a field end with a comma, a brace or the line.
    while (!is(",") && !is("}") && !at_end() && !peek().first_on_line) field_word(syntax);
    accept(",");
    syntax.doc = doc_of_part(first);
    return syntax;
  }

  // A number, a name, a text, or an empty list.
  DefaultSyntax initial() {
    DefaultSyntax made;
    made.place = peek();
    if (is("-") || peek().kind == TokenKind::number) {
      made.number = number("the default");
      made.place = made.number.place;
    } else if (peek().kind == TokenKind::word || peek().kind == TokenKind::string) {
      next();
    } else {
      stop_expected("a default: a number, a name, true, false or a text in quotes");
    }
    return made;
  }

  // One word of an entity's field; a word that is unknown is compared with those that are.
  void field_word(FieldSyntax& syntax) {
    static const std::vector<std::string> kWords = {"at",     "owner",  "server",   "client",
                                                    "smooth", "follow", "relative", "urgent",
                                                    "lazy",   "since",  "until"};
    // Two words each: the second one is checked at once, since the first alone means nothing.
    const Token first = peek();
    if (first.kind != TokenKind::word) {
      stop(first, fmt::format("{} does not belong here; fields are separated by commas or new "
                              "lines",
                              shown(first)));
    }
    next();
    if (life_word(first, syntax.life)) return;
    if (first.text == "at") {
      if (!accept("spawn")) stop_expected("`spawn`, as in `at spawn`");
      if (syntax.at_spawn) said_twice(first);
      syntax.at_spawn = first;
    } else if (first.text == "owner") {
      if (!accept("only")) stop_expected("`only`, as in `owner only`");
      if (syntax.owner_only) said_twice(first);
      syntax.owner_only = first;
    } else if (first.text == "server" || first.text == "client") {
      if (!accept("local")) stop_expected(fmt::format("`local`, as in `{} local`", first.text));
      syntax.local = first;
      syntax.side = first.text == "server" ? schema::Local::server : schema::Local::client;
    } else if (first.text == "smooth") {
      if (syntax.smooth) said_twice(first);
      syntax.smooth = first;
    } else if (first.text == "urgent" || first.text == "lazy") {
      if (syntax.freshness && syntax.freshness->text == first.text) said_twice(first);
      if (syntax.freshness && syntax.freshness->text != first.text) {
        report(first, "a field is `urgent` or `lazy`, not both");
      }
      syntax.freshness = first;
    } else if (first.text == "follow") {
      if (syntax.follow) said_twice(first);
      syntax.follow = first;
      syntax.speed = word("the field that holds the speed or the velocity");
      if (accept("along")) syntax.along = word("the field that holds the direction");
      if (accept("within")) syntax.within = number("the error that needs no correction");
    } else if (first.text == "relative") {
      if (syntax.relative) said_twice(first);
      syntax.relative = first;
      if (!accept("to")) stop_expected("`to` and the field that names the carrier, a `ref`");
      syntax.carrier = word("the field that names the carrier, a `ref`");
    } else {
      stop_unknown(first, "a word of a field", kWords);
    }
  }

  // ---- recovery ----

  [[nodiscard]] bool starts_declaration(bool on_new_line = true) const {
    return (peek().first_on_line || !on_new_line) && contains(declaration_words(), peek().text) &&
           peek(1).text != ":";
  }
  // Panic mode: after an error the parser goes on at the next word that begins a declaration, so
  // that one run reports the errors of all declarations.
  void skip_to_declaration() {
    begin_type();
    // Any word at the start of a line may be a declaration, misspelt or not.
    while (!at_end() && !starts_declaration() &&
           !(peek().column == 1 && peek().kind == TokenKind::word)) {
      next();
    }
  }
  // Within braces it goes on at the next field.
  void skip_to_field() {
    begin_type();
    int braces = 0;  // of a type that went wrong
    // Braces of a type that went wrong are counted, so that the search stays within this body.
    while (!at_end() && !starts_declaration()) {
      if (is("{")) ++braces;
      if (is("}") && braces-- == 0) return;
      if (braces <= 0 && peek(1).text == ":" && peek().kind == TokenKind::word) return;
      next();
    }
  }

  Reading& reading_;
  std::uint16_t file_;
};

}  // namespace

const std::vector<std::string>& declaration_words() {
  static const std::vector<std::string> kWords = {"protocol", "include", "quantity", "enum",
                                                  "flags",    "record",  "channel",  "message",
                                                  "request",  "entity"};
  return kWords;
}

FileSyntax parse(std::vector<std::unique_ptr<SourceFile>>& files, const Loader& load,
                 std::vector<Diagnostic>& errors, bool part) {
  Reading reading{files, load, {}};
  reading.part = part;
  const Tokens lexed = tokenize(files.front()->text, 0, errors);
  if (lexed.tokens.size() == 1 && errors.empty()) {
    errors.push_back({1, 1, 1, "the file is empty; it must start with `protocol NAME VERSION`"});
  } else {
    Parser(reading, lexed, 0, errors).file();
  }
  return std::move(reading.made);
}

}  // namespace kwind::language
