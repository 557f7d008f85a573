// From the syntax tree to schema::Protocol: channels, messages with their answers, entities. What
// their fields say is for Types.
//
// The pass after parsing: names become numbers, limits are checked, and answers of requests are
// made. Errors do not stop it: whatever cannot be resolved is replaced by something that lets the
// other checks run, and the result is dropped if there was any error.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "kwind/bits/nearest.h"
#include "kwind/schema/codec.h"
#include "language/field_words.h"
#include "language/lives.h"
#include "language/message_checks.h"
#include "language/overlaps.h"
#include "language/ranges.h"
#include "language/resolver_limits.h"
#include "language/state_hints.h"
#include "language/types.h"

namespace kwind::language {
namespace {

using schema::Type;
using schema::TypeKind;

class Resolver {
 public:
  Resolver(const FileSyntax& file, std::vector<Diagnostic>& errors, std::vector<Diagnostic>& hints)
      : file_(file), reporter_(errors, hints) {}

  // In the order of dependence: types know the head's limits, messages know channels and types,
  // entities know all types. Declarations with errors leave a protocol that is fit for further
  // checks, never for use.
  schema::Protocol protocol() {
    head();
    types_.declare();
    channels();
    messages();
    entities();
    // After other errors, life spans may be incomplete.
    if (!reporter_.any_error()) check_overlaps(out_, file_, reporter_);
    return std::move(out_);
  }

 private:
  void report(const Token& place, std::string message) {
    reporter_.error(place, std::move(message));
  }

  // The protocol's name becomes a C++ namespace beside those that generated code uses.
  void head() {
    out_.name = file_.protocol_name.text;
    out_.doc = file_.doc;
    if (file_.version.written() &&
        (file_.version.num < 1 || file_.version.num > limits::kMaxVersion)) {
      report(file_.version.place, fmt::format("the version must be 1 to {}", limits::kMaxVersion));
    }
    out_.version = static_cast<std::uint16_t>(
        std::clamp<std::int64_t>(file_.version.num, 1, limits::kMaxVersion));
    if (out_.name == "kwind" || out_.name == "std" || out_.name == "fmt" || out_.name == "Eigen") {
      report(file_.protocol_name, "the name would clash with a C++ namespace; choose another");
    }
    out_.entities_up_to = limit(file_.entities, limits::kMaxEntities, "`entities up to`");
    out_.peers_up_to = limit(file_.peers, limits::kMaxPeers, "`peers up to`");
  }
  // 0 where nothing is written; 1 after an error, so that types that need the limit report no
  // second one.
  std::uint32_t limit(const Number& number, std::int64_t max, std::string_view what) {
    if (!number.written()) return 0;
    if (number.num < 1 || number.num > max) {
      report(number.place, fmt::format("the limit of {} must be 1 to {}", what, max));
      return 1;
    }
    return static_cast<std::uint32_t>(number.num);
  }

  // ---- channels, messages, entities ----

  // A channel's number on the wire is its place in the file. Peers of an older version know only
  // the first channels, so a channel of a later version must not stand between them.
  void channels() {
    std::map<std::string_view, Token> seen;
    std::uint16_t newest = 1;
    for (const ChannelSyntax& syntax : file_.channels) {
      const auto [found, fresh] = seen.try_emplace(syntax.name.text, syntax.name);
      if (!fresh) {
        report(syntax.name, fmt::format("the channel `{}` is already declared in line {}",
                                        syntax.name.text, found->second.line));
      }
      schema::Channel made;
      made.name = syntax.name.text;
      made.delivery = syntax.delivery;
      made.high = syntax.high;
      made.bulk = syntax.bulk;
      made.repeat = static_cast<std::uint8_t>(
          syntax.repeat.written() ? limit(syntax.repeat, limits::kMaxRepeat, "`repeat`") : 0);
      made.life = life_of(syntax.life, out_.version, reporter_);
      made.doc = syntax.doc;
      // Versions of channels never decrease along the file.
      if (made.life.since < newest) {
        report(syntax.name,
               "channels are numbered in order, so a new one stands behind all older "
               "ones");
      }
      newest = std::max(newest, made.life.since);
      out_.channels.push_back(std::move(made));
    }
    if (file_.channels.size() > limits::kMaxChannels) {
      report(file_.channels[limits::kMaxChannels].name,
             fmt::format("a protocol has at most {} channels", limits::kMaxChannels));
    }
  }

  // Each message gets its type number by its place. A request takes two places: one for itself and
  // one for its answer.
  void messages() {
    if (file_.messages.size() > limits::kMaxMessages) {
      report(file_.messages[limits::kMaxMessages].name,
             fmt::format("a protocol has at most {} messages", limits::kMaxMessages));
    }
    // One message, or a request with its answer.
    for (const MessageSyntax& syntax : file_.messages) {
      std::uint64_t leaves = 0;
      schema::MessageType made;
      made.name = syntax.name.text;
      made.role = syntax.request ? schema::MessageRole::request : schema::MessageRole::message;
      made.direction = syntax.direction;
      made.split = syntax.split;
      made.doc = syntax.doc;
      made.fields = types_.fields(syntax.fields, syntax.name.text, leaves, false);
      // The parser gave up inside this message. Its fields are resolved for their own errors, but a
      // message that lacks its end is checked no further.
      if (!syntax.whole) {
        if (syntax.request) types_.fields(syntax.reply, syntax.name.text, leaves, false);
        continue;
      }
      made.channel = channel_of(syntax.channel);
      if (syntax.at_most.written() &&
          (syntax.at_most.num < 1 || syntax.at_most.num > limits::kMaxRate)) {
        report(syntax.at_most.place,
               fmt::format("the rate must be 1 to {} messages a second", limits::kMaxRate));
      }
      made.at_most_per_second = static_cast<std::uint16_t>(syntax.at_most.num);
      made.life = life_of(syntax.life, out_.version, reporter_);
      check_authority(syntax, made, reporter_);
      check_channel_life(out_, syntax, made, reporter_);
      check_message_size(out_, syntax.name, made, leaves, reporter_);
      // A copy: add_answer() appends to the vector that `made` was moved into.
      const schema::MessageType request = made;
      out_.messages.push_back(std::move(made));
      if (syntax.request) add_answer(syntax, request);
    }
  }

  // The answer of a request: a message of its own, that travels the other way.
  void add_answer(const MessageSyntax& syntax, const schema::MessageType& request) {
    schema::MessageType answer = request;
    // The same channel and the same life as the request.
    answer.name = request.name + "Answer";
    answer.role = schema::MessageRole::answer;
    answer.direction =
        request.direction == schema::Direction::from_client   ? schema::Direction::from_server
        : request.direction == schema::Direction::from_server ? schema::Direction::from_client
                                                              : schema::Direction::both;
    answer.at_most_per_second = 0;
    // The owner's field is a field of the request, which the answer does not have.
    answer.owner_field.clear();
    answer.doc = fmt::format("The answer to {}.", request.name);
    std::uint64_t leaves = 0;
    const std::string reply = request.name + "Reply";
    const std::uint32_t record =
        types_.add_record(reply, types_.fields(syntax.reply, reply, leaves, false), leaves, {});
    schema::Options outcome;
    outcome.name = "Outcome";
    outcome.inside = answer.name;
    // The two cases of an answer, as any `one of` has them: codecs and documents need no rule of
    // their own for answers.
    outcome.options.push_back({"reply", {}, 0, {}, "What was asked for."});
    outcome.options.back().type.push_back(record_type(record));
    if (!syntax.refusals.empty()) {
      // The reasons are an enum under the name of the request, so that C++, C and TypeScript can
      // name them.
      const std::uint32_t reasons =
          types_.add_enum({syntax.name, syntax.refusals, {}}, request.name + "Refusal");
      schema::Field reason;
      reason.name = "reason";
      reason.type.kind = TypeKind::enumeration;
      reason.type.index = reasons;
      schema::Field words;
      words.name = "words";
      words.type.kind = TypeKind::text;
      words.type.limit = limits::kRefusalBytes;
      words.doc = "For people to read.";
      const std::uint32_t refused =
          types_.add_record(request.name + "Refused", {reason, words}, 2, {});
      outcome.options.push_back({"refused", {}, 1, {}, "Why not."});
      outcome.options.back().type.push_back(record_type(refused));
    }
    out_.one_ofs.push_back(std::move(outcome));
    schema::Field field;
    field.name = "outcome";
    field.type.kind = TypeKind::one_of;
    field.type.index = static_cast<std::uint32_t>(out_.one_ofs.size() - 1);
    answer.fields = {std::move(field)};
    check_message_size(out_, syntax.name, answer, leaves, reporter_);
    out_.messages.push_back(std::move(answer));
  }
  static Type record_type(std::uint32_t index) {
    Type made;
    made.kind = TypeKind::record;
    made.index = index;
    return made;
  }

  // After an unknown channel the first one stands in, so that checks that follow have one.
  std::uint8_t channel_of(const Token& name) {
    std::vector<std::string> known;
    // O(channels), at most some dozens.
    for (std::size_t i = 0; i < file_.channels.size(); ++i) {
      if (file_.channels[i].name.text == name.text) return static_cast<std::uint8_t>(i);
      known.emplace_back(file_.channels[i].name.text);
    }
    const std::string near = bits::nearest(name.text, known);
    report(name,
           near.empty()
               ? fmt::format("there is no channel `{0}`; declare it, as in `channel {0} "
                             "ordered`",
                             name.text)
               : fmt::format("there is no channel `{}`; did you mean `{}`?", name.text, near));
    return 0;
  }

  // Fields are resolved into a local list first: resolving one may declare types, and references to
  // entities use out_.entities meanwhile.
  void entities() {
    if (!file_.entities_declared.empty() && out_.entities_up_to == 0) {
      report(file_.entities_declared.front().name,
             "entities need to know how many there can be; say so behind the version, as in "
             "`protocol harbour 1, entities up to 4000`");
    }
    // Entity i was declared by Types at place i.
    for (std::size_t i = 0; i < file_.entities_declared.size(); ++i) {
      const EntitySyntax& syntax = file_.entities_declared[i];
      std::uint64_t leaves = 0;
      std::vector<schema::Field> made =
          types_.fields(syntax.fields, syntax.name.text, leaves, true);
      schema::Entity& entity = out_.entities[i];
      entity.fields = std::move(made);
      entity.life = life_of(syntax.life, out_.version, reporter_);
      entity.doc = syntax.doc;
      if (syntax.at_most.written() &&
          (syntax.at_most.num < 1 || syntax.at_most.num > limits::kMaxRate)) {
        report(syntax.at_most.place,
               fmt::format("the rate must be 1 to {} a second", limits::kMaxRate));
      } else {
        entity.at_most_per_second = static_cast<std::uint16_t>(syntax.at_most.num);
      }
      if (!syntax.freshness.text.empty()) {
        entity.freshness =
            syntax.freshness.text == "lazy" ? schema::Freshness::lazy : schema::Freshness::urgent;
      }
      // What may be a little off is held back until it is too far off: there is nothing to repeat.
      const bool tolerant =
          std::any_of(entity.fields.begin(), entity.fields.end(), [](const schema::Field& field) {
            return field.words.follow && field.words.follow->within.num > 0;
          });
      if (entity.freshness == schema::Freshness::urgent && tolerant) {
        report(syntax.freshness,
               fmt::format("`{}` has a field with `within`, which may be a little off; leave "
                           "`urgent` or `within` away",
                           entity.name));
      }
      for (const FieldSyntax& field : syntax.fields) {
        if (!tolerant || !field.freshness || field.freshness->text != "urgent") continue;
        report(*field.freshness,
               fmt::format("`{}` has a field with `within`, and is sent when that is too far off; "
                           "leave `urgent` or `within` away",
                           entity.name));
      }
      hint_at_state(out_, syntax, entity, reporter_);
      // In any version: a peer of an older version may be sent more.
      const std::size_t bytes =
          bits::bytes_for(schema::size_in_any_version(out_, entity.fields).max_bits);
      if (leaves > limits::kMaxLeaves || bytes > limits::kMaxEntityBytes) {
        report(
            syntax.name,
            fmt::format("`{}` can take {} bytes in {} fields; an entity has at most "
                        "{} bytes and {} fields",
                        entity.name, bytes, leaves, limits::kMaxEntityBytes, limits::kMaxLeaves));
      }
    }
    for (std::size_t i = 0; i < file_.entities_declared.size(); ++i) {
      check_attachments(out_, file_.entities_declared[i].fields, out_.entities[i], reporter_);
    }
  }

  const FileSyntax& file_;
  Reporter reporter_;
  schema::Protocol out_;
  Types types_{file_, out_, reporter_};
};

}  // namespace

schema::Protocol resolve(const FileSyntax& file, std::vector<Diagnostic>& errors,
                         std::vector<Diagnostic>& hints) {
  return Resolver(file, errors, hints).protocol();
}

}  // namespace kwind::language
