// C++ headers from a protocol, one for each declaration and one that includes them all. A header
// holds a struct, encode() and decode() for it, a visitor, what blend() draws between two states,
// and constexpr tables of fields, columns and sizes.
//
// Order: a struct needs the complete types of its members, so each header includes those of the
// records and enums that it names; entities are only referred to, and declared ahead.
//
// The text of each header is collected by CppHeader, which also collects its includes: a part of
// the generator that names a type says which header the type needs (need()).
#include "kwind/language/generate_cpp.h"

#include <fmt/format.h>

#include <algorithm>

#include "kwind/schema/columns.h"
#include "kwind/schema/info.h"
#include "language/cpp_codec.h"
#include "language/cpp_names.h"
#include "language/cpp_options.h"
#include "language/cpp_tables.h"
#include "language/cpp_types.h"
#include "language/snake_case.h"

namespace kwind::language {
namespace {

using schema::Field;
using schema::MessageType;
using schema::Options;
using schema::Protocol;
using schema::Type;
using schema::TypeKind;

std::string size_text(const schema::Size& size) {
  return schema::bits_text(size) + (size.max_bits == 1 ? " bit" : " bits");
}

class Generator {
 public:
  Generator(const Protocol& protocol, std::string_view source)
      : protocol_(protocol),
        source_(source),
        space_(cpp_space(protocol.name)),
        types_(protocol),
        codec_(protocol, types_) {}

  // One header for each declaration, and one that includes all and holds the tables.
  // Headers of single declarations come first: each begins with an empty header of its own, and the
  // header of the whole protocol then includes all that were made.
  std::vector<GeneratedFile> files() {
    for (const Options& made : protocol_.enums) {
      if (made.inside.empty() && own(made.name))
        alone(made.name, [&] { write_enum(*header_, made, ""); });
    }
    for (const Options& made : protocol_.flags) {
      if (made.inside.empty()) alone(made.name, [&] { write_flags(*header_, made, ""); });
    }
    for (const auto& record : protocol_.records) {
      // A record that belongs to a request is written with the request.
      if (own(record.name)) alone(record.name, [&] { record_text(record); });
    }
    // An answer has no header of its own: its types stand in the header of its request.
    for (std::size_t kind = 0; kind < protocol_.messages.size(); ++kind) {
      const MessageType& message = protocol_.messages[kind];
      if (message.role == schema::MessageRole::answer) continue;
      alone(message.name, [&] {
        message_text(message, kind);
        if (message.role == schema::MessageRole::request) answer_text(message, kind + 1);
      });
    }
    for (std::size_t kind = 0; kind < protocol_.entities.size(); ++kind) {
      const schema::Entity& entity = protocol_.entities[kind];
      alone(entity.name, [&] { entity_text(entity, kind); });
    }
    whole();
    // Server and client headers add the local fields of their side.
    for (const schema::Local side : {schema::Local::server, schema::Local::client}) {
      side_header(side);
    }
    return std::move(files_);
  }

 private:
  // Whether a declaration has a header of its own, not that of a request.
  bool own(const std::string& name) const { return types_.home(name) == name; }
  std::string path(const std::string& name) const {
    return fmt::format("{}/{}.h", protocol_.name, snake_case(name));
  }

  // Begins a header, lets `write` fill it, and adds it to the files.
  template <class Write>
  void alone(const std::string& name, const Write& write) {
    CppHeader header(source_);
    header_ = &header;
    write();
    files_.push_back(header.file(path(name), space_));
    header_ = nullptr;
  }

  template <class... Args>
  void line(fmt::format_string<Args...> format, Args&&... args) {
    header_->line(format, std::forward<Args>(args)...);
  }
  // The includes that a member of this type needs.
  void need(const Type& type) {
    types_.headers(type, header_->system_headers(), header_->our_headers());
  }

  // ---- structs ----
  // Example of what follows for `record Spot { x : int 0..100 }`:
  //   struct Spot {
  //     static constexpr kwind::bits::IntRange x_range{0, 100};
  //     std::int32_t x = 0;  // int 0..100, 7 bits
  //   };

  // A struct in a struct has no default values before the outer one is complete, which a `maybe` of
  // it would need.
  static std::string flags_outside(const Options& made) {
    return "flags_of_" + made.inside + "_" + made.name;
  }
  // Types that a struct needs declared before itself.
  void outside_text(const std::string& name) {
    for (Options made : protocol_.flags) {
      if (made.inside != name) continue;
      made.name = flags_outside(made);
      line("namespace tables {{");
      write_flags(*header_, made, "");
      line("}}  // namespace tables");
    }
  }
  // Types that are declared inside a struct.
  void inside_text(const std::string& name) {
    for (const Options& made : protocol_.enums) {
      if (made.inside == name) write_enum(*header_, made, "  ");
    }
    for (const Options& made : protocol_.flags) {
      if (made.inside == name) line("  using {} = tables::{};", made.name, flags_outside(made));
    }
    for (const Options& made : protocol_.one_ofs) {
      if (made.inside == name) write_one_of(*header_, protocol_, types_, made);
    }
  }

  // A member with its range, its doc comment and its initial value.
  void member_text(const Field& field, const std::string& scope = "") {
    need(field.type);
    const std::string range = CppTypes::range(field.type, field.name);
    // Encoder and decoder share the constant, so that they cannot disagree about a range.
    if (!range.empty()) line("  static constexpr {};", range);
    header_->text(cpp_comment(field.doc, "  "));
    line("  {} {}{};  // {}{}, {}{}", types_.name(field.type, scope), cpp_name(field.name),
         types_.initial(field.type, schema::initial_value(protocol_, field), scope),
         schema::type_text(protocol_, field.type), field.unit.empty() ? "" : " in " + field.unit,
         size_text(schema::size_of(protocol_, field.type)), schema::life_text(field.life, ", "));
  }

  enum class Of : std::uint8_t { record, message, entity };
  // A struct with its members, its comparison, and its static description.
  void struct_text(const std::string& name, const std::vector<Field>& fields, Of what) {
    header_->system("<span>");
    line("struct {} {{", name);
    // Types inside come first: members name them.
    inside_text(name);
    for (const Field& field : fields) {
      if (field.words.local == schema::Local::no) member_text(field);
    }
    // Tables stand after the struct, because they name it: the functions are declared here and
    // defined there.
    if (what == Of::message) line("  static constexpr const kwind::schema::MessageInfo& info();");
    if (what == Of::entity) {
      line("  static constexpr const kwind::schema::EntityInfo& entity_info();");
    }
    line("  static constexpr std::span<const kwind::schema::FieldInfo> fields();");
    line("  friend bool operator==(const {0}&, const {0}&) = default;\n}};\n", name);
    codec_text(name, fields);
    if (what != Of::message) blend_text(name, fields, what);
    table_text(name, fields);
  }

  // What is drawn between two states: of an entity the fields that move, of a record all.
  void blend_text(const std::string& name, const std::vector<Field>& fields, Of what) {
    header_->ours("\"kwind/schema/blend.h\"");
    line("/// Between two states: `part` 0 is `from`, 1 is `to`. {} stay as in `from`.",
         what == Of::entity ? "Fields that are neither `smooth` nor `follow`"
                            : "Texts and the like");
    line("inline {0} blend(const {0}& from, [[maybe_unused]] const {0}& to,", name);
    line("    [[maybe_unused]] double part) {{\n  {} made = from;", name);
    for (const Field& field : fields) {
      if (field.words.local != schema::Local::no) continue;
      // Fields that jump, such as a count of coins, are not blended.
      if (what == Of::entity && !field.words.smooth && !field.words.follow) continue;
      const std::string member = cpp_name(field.name);
      const auto by = [&](std::string_view function) {
        line("  made.{0} = {1}(from.{0}, to.{0}, part);", member, function);
      };
      switch (field.type.kind) {
        case schema::TypeKind::record: by("blend"); break;
        case schema::TypeKind::angle: by("kwind::schema::blended_angle"); break;
        case schema::TypeKind::direction2:
        case schema::TypeKind::direction3: by("kwind::schema::blended_direction"); break;
        case schema::TypeKind::integer:
        case schema::TypeKind::real:
        case schema::TypeKind::f32:
        case schema::TypeKind::f64:
        case schema::TypeKind::vec:
        case schema::TypeKind::rotation: by("kwind::schema::blended"); break;
        // Values without anything in between stay as they were.
        default: break;
      }
    }
    line("  return made;\n}}");
  }

  // encode() and decode() of a struct; parameters that an empty one does not use are marked.
  void codec_text(const std::string& name, const std::vector<Field>& fields) {
    const std::string encode = codec_.encode(name, fields);
    const std::string decode = codec_.decode(name, fields);
    const std::string unused = encode.empty() ? "[[maybe_unused]] " : "";
    line("inline void encode({0}kwind::schema::Encoder& out, {0}const {1}& from) {{\n{2}}}", unused,
         name, encode);
    line("inline void decode({0}kwind::schema::Decoder& in, {0}{1}& to) {{\n{2}}}", unused, name,
         decode);
    line("/// Calls visit(\"name\", value) for each field in order.");
    line("template <class Visitor_>\nvoid visit_fields({0}const {1}& from, {0}Visitor_&& visit) {{",
         unused, name);
    for (const Field& field : fields) {
      if (field.words.local != schema::Local::no) continue;
      line("  visit(\"{}\", from.{});", field.name, cpp_name(field.name));
    }
    line("}}\n");
  }

  // The table by which tools print and compare a struct at run time.
  void table_text(const std::string& name, const std::vector<Field>& fields) {
    const auto count = std::count_if(fields.begin(), fields.end(), [](const Field& field) {
      return field.words.local == schema::Local::no;
    });
    std::string table = "{}";
    if (count > 0) {
      header_->system("<array>");
      table = fmt::format("tables::fields_of_{}", name);
      line("namespace tables {{");
      line("inline constexpr std::array<kwind::schema::FieldInfo, {}> fields_of_{} = {{{{", count,
           name);
      for (const Field& field : fields) {
        if (field.words.local != schema::Local::no) continue;
        const schema::Size size = schema::size_of(protocol_, field.type);
        line("    {},", Members()
                            .add("name", cpp_string(field.name))
                            .add("type", cpp_string(schema::type_text(protocol_, field.type)))
                            .add_unless("\"\"", "unit", cpp_string(field.unit))
                            .add("min_bits", size.min_bits)
                            .add("max_bits", size.max_bits)
                            .add_unless(kAlways, "life", life_of(field.life))
                            .text());
      }
      line("}}}};\n}}  // namespace tables");
    }
    line("constexpr std::span<const kwind::schema::FieldInfo> {}::fields() {{ return {}; }}", name,
         table);
  }

  // A record: types that it needs, its size as a comment, the struct, its codec.
  void record_text(const schema::Record& record) {
    // Entities that the record refers to are declared, not included.
    for (const Field& field : record.fields) forward(field.type);
    const std::string size = size_text(schema::size_of(protocol_, record.fields));
    outside_text(record.name);
    header_->text(cpp_comment(record.doc.empty() ? size : record.doc + "\n" + size, ""));
    struct_text(record.name, record.fields, Of::record);
  }

  // A message: the comment says who sends it, on which channel, how often, and how many bytes it
  // takes.
  void message_text(const MessageType& message, std::size_t kind) {
    const auto& channel = protocol_.channels[message.channel];
    std::string doc = message.doc.empty() ? "" : message.doc + "\n";
    // The comment repeats the declaration in words: readers of generated code need not look it up.
    doc += fmt::format("{}, on {} ({}){}{}; {}.", name_of(message.direction), channel.name,
                       name_of(channel.delivery),
                       message.at_most_per_second == 0
                           ? std::string()
                           : fmt::format(", at most {}/s", message.at_most_per_second),
                       schema::life_text(message.life, ", "),
                       size_text(schema::size_of(protocol_, message.fields)));
    for (const Field& field : message.fields) forward(field.type);
    const bool asks = message.role == schema::MessageRole::request;
    if (asks) forward_answer(message);
    outside_text(message.name);
    header_->text(cpp_comment(doc, ""));
    struct_text(message.name, message.fields, Of::message);
    if (asks) asking(message);
    const schema::Size size = schema::size_in_any_version(protocol_, message.fields);
    std::string_view direction = "both";
    if (message.direction == schema::Direction::from_client) direction = "from_client";
    if (message.direction == schema::Direction::from_server) direction = "from_server";
    std::string_view role = "message";
    if (message.role == schema::MessageRole::request) role = "request";
    if (message.role == schema::MessageRole::answer) role = "answer";
    line("namespace tables {{");
    line("inline constexpr kwind::schema::MessageInfo info_of_{} =", message.name);
    Members members;
    members.add("name", cpp_string(message.name))
        .add("type", kind)
        .add("channel", message.channel)
        .add("direction", fmt::format("kwind::schema::Direction::{}", direction))
        .add_unless(0, "at_most_per_second", message.at_most_per_second)
        .add("min_bits", size.min_bits)
        .add("max_bits", size.max_bits);
    if (!message.fields.empty()) members.add("fields", "fields_of_" + message.name);
    if (role != "message") members.add("role", fmt::format("kwind::schema::MessageRole::{}", role));
    members.add_unless(kAlways, "life", life_of(message.life))
        .add_unless("\"\"", "owner_field", cpp_string(message.owner_field));
    line("    {};\n}}  // namespace tables", members.text());
    line(
        "constexpr const kwind::schema::MessageInfo& {0}::info() {{ return tables::info_of_{0}; }}",
        message.name);
  }

  // Entities are named by refs only: their own headers are not needed for that.
  void forward(const Type& type) {
    if (type.kind == TypeKind::ref) {
      line("struct {};", protocol_.entities[type.index].name);
    } else if (type.kind == TypeKind::one_of) {
      for (const auto& option : protocol_.one_ofs[type.index].options) {
        // A list of references needs the declaration as well.
        for (const Type& inner : option.type) forward(inner);
      }
    }
    for (const Type& inner : type.element) forward(inner);
  }

  // A request without reasons has no type for a refusal.
  bool refuses(const MessageType& request) const {
    return std::any_of(protocol_.records.begin(), protocol_.records.end(),
                       [&](const auto& record) { return record.name == request.name + "Refused"; });
  }
  // What the answer to a request is made of, for code that asks.
  void forward_answer(const MessageType& request) {
    line("struct {0}Reply;\nstruct {0}Answer;", request.name);
    for (const Options& made : protocol_.enums) {
      if (!made.inside.empty() || made.name != request.name + "Refusal") continue;
      line("enum class {} : std::uint{}_t;", made.name, enum_bits(made));
    }
  }
  // The types through which the library's templates find a request's answer and reasons.
  void asking(const MessageType& request) {
    line("/// What kwind::route::Outcome<{0}> and Answer<{0}> deal with.", request.name);
    line("struct {0}Asking {{\n  using Answer = {0}Answer;\n  using Reply = {0}Reply;",
         request.name);
    if (refuses(request)) line("  using Refusal = {}Refusal;", request.name);
    line("}};\n{0}Asking asking_of(const {0}&);", request.name);
  }

  // The answer's struct, with the reasons of a refusal.
  void answer_text(const MessageType& request, std::size_t kind) {
    for (const Options& made : protocol_.enums) {
      if (made.inside.empty() && made.name == request.name + "Refusal") {
        line("");
        write_enum(*header_, made, "");
      }
    }
    for (const auto& record : protocol_.records) {
      if (record.name == request.name + "Reply" || record.name == request.name + "Refused") {
        line("");
        record_text(record);
      }
    }
    line("");
    message_text(protocol_.messages[kind], kind);
  }

  // An entity: struct, columns for snapshots, tables.
  void entity_text(const schema::Entity& entity, std::size_t kind) {
    header_->ours("\"kwind/schema/entity_info.h\"");
    std::string doc = entity.doc.empty() ? "" : entity.doc + "\n";
    doc += fmt::format("Entity{}; {} when all of it travels.", schema::life_text(entity.life, ", "),
                       size_text(schema::size_of(protocol_, entity.fields)));
    for (const Field& field : entity.fields) forward(field.type);
    outside_text(entity.name);
    header_->text(cpp_comment(doc, ""));
    struct_text(entity.name, entity.fields, Of::entity);
    columns_text(entity);
    header_->system("<array>");
    header_->text(entity_tables(protocol_, entity, kind));
  }

  // Statements that declare something stand in braces, as those of the next field may, too.
  static std::string in_a_scope(const std::string& body) {
    if (body.find(" auto ") == std::string::npos && body.find("  const ") == std::string::npos &&
        body.find(" Encoder ") == std::string::npos) {
      return body;
    }
    std::string made = "  {\n";
    // Indents each line of the body.
    for (std::size_t at = 0; at < body.size();) {
      const std::size_t end = body.find('\n', at);
      const std::string text = body.substr(at, end - at);
      made += (text.empty() ? "" : "  " + text) + "\n";
      at = end + 1;
    }
    return made + "  }\n";
  }

  // As encode(), with a call after each field: replication reads columns out of the bits.
  void columns_text(const schema::Entity& entity) {
    line("/// As encode(), and calls mark() behind each field, also where the version lacks it.");
    line("template <class Mark_>");
    line("void encode_columns([[maybe_unused]] kwind::schema::Encoder& out,");
    line("                    [[maybe_unused]] const {}& from, [[maybe_unused]] Mark_&& mark) {{",
         entity.name);
    for (const Field& field : entity.fields) {
      if (field.words.local != schema::Local::no) continue;
      line("{}  mark();", in_a_scope(codec_.encode(entity.name, {field})));
    }
    line("}}\n");
  }

  // ---- the headers that hold it all ----

  // The header of the whole protocol: everything above, and the tables of messages and versions.
  void whole() {
    CppHeader header(source_);
    header_ = &header;
    header.system("<array>");
    // Includes of all headers made so far.
    for (const GeneratedFile& file : files_) header.ours(fmt::format("\"{}\"", file.path));
    line("namespace tables {{");
    line("inline constexpr std::array<kwind::schema::ChannelInfo, {}> channels = {{{{",
         protocol_.channels.size());
    for (const auto& channel : protocol_.channels) {
      line("    {},",
           Members()
               .add("name", cpp_string(channel.name))
               .add("delivery", fmt::format("kwind::Delivery::{}", name_of(channel.delivery)))
               .add_unless(false, "high", channel.high)
               .add_unless(false, "bulk", channel.bulk)
               .add_unless(0, "repeat", channel.repeat)
               .add_unless(kAlways, "life", life_of(channel.life))
               .text());
    }
    line("}}}};");
    line("inline constexpr std::array<kwind::schema::MessageInfo, {}> messages = {{{{",
         protocol_.messages.size());
    for (const auto& message : protocol_.messages) line("    info_of_{},", message.name);
    line("}}}};");
    versions();
    declarations();
    std::string kinds;
    for (const auto& message : protocol_.messages) {
      kinds += (kinds.empty() ? "\n    " : ",\n    ") + message.name;
    }
    line("/// All kinds of message, in order.\nusing Messages = kwind::schema::MessageList<{}>;",
         kinds);
    if (!protocol_.entities.empty()) entity_versions_text();
    line("}}  // namespace tables\n");
    if (!protocol_.entities.empty()) {
      const auto ranges = schema::entity_versions(protocol_);
      Members members;
      members.add("up_to", protocol_.entities_up_to).add("types", "tables::entity_types");
      members.add_unless(1, "since", ranges.front().since);
      if (ranges.size() > 1) members.add("older", "tables::older_entities");
      line("/// What a replica::World or replica::ClientWorld needs to know of this protocol.");
      line("inline constexpr kwind::schema::EntitiesInfo kEntities{};\n", members.text());
    }
    line("/// What a Server or Client needs to know of this protocol.");
    line("inline constexpr kwind::schema::ProtocolInfo kProtocol =\n    {};\n",
         Members()
             .add("name", cpp_string(protocol_.name))
             .add("version", protocol_.version)
             .add("versions", "tables::versions")
             .add("channels", "tables::channels")
             .add("messages", "tables::messages")
             .add("declarations", "tables::declarations")
             .add_unless(1, "entities_since", schema::entity_versions(protocol_).front().since)
             .text());
    line("/// Calls visit(Message{{}}) for each kind of message, in order.");
    line("template <class Visitor_>\nvoid visit_messages([[maybe_unused]] Visitor_&& visit) {{");
    for (const auto& message : protocol_.messages) line("  visit({}{{}});", message.name);
    line("}}");
    files_.push_back(header.file(protocol_.name + ".h", space_));
    header_ = nullptr;
  }

  // Digests of the newest sixteen versions.
  void versions() {
    const std::uint16_t oldest = schema::oldest_version(protocol_);
    line("inline constexpr std::array<kwind::schema::VersionInfo, {}> versions = {{{{",
         protocol_.version - oldest + 1);
    // Newest first, as the handshake offers them.
    for (std::uint16_t version = protocol_.version; version >= oldest; --version) {
      std::vector<std::string> digest;
      for (const std::byte byte : schema::digest_of(protocol_, version)) {
        digest.push_back(fmt::format("std::byte{{0x{:02x}}}", std::to_integer<unsigned>(byte)));
      }
      line("    {{{}, {{{}}}}},", version, fmt::join(digest, ", "));
    }
    line("}}}};");
  }

  // Short digests of each declaration, with which a mismatch is explained.
  void declarations() {
    const auto rows = schema::declaration_digests(protocol_);
    line("inline constexpr std::array<kwind::schema::DeclarationInfo, {}> declarations = {{{{",
         rows.size());
    for (const auto& row : rows) {
      line("    {{\"{}\", {}, 0x{:08x}}},", row.name, row.from, row.digest);
    }
    line("}}}};");
  }

  // All entity types, and once more for each older version that has others.
  void entity_versions_text() {
    std::string older;
    const auto ranges = schema::entity_versions(protocol_);
    for (std::size_t i = 0; i < ranges.size(); ++i) {
      std::string all;
      for (const auto& entity : protocol_.entities) {
        all += (all.empty() ? "&" : ", &") + entity_info_names(protocol_, entity)[i];
      }
      const std::string suffix = i == 0 ? "" : fmt::format("_in_{}", ranges[i].newest);
      line("inline constexpr std::array<const kwind::schema::EntityInfo*, {}> entity_types{} = {{",
           protocol_.entities.size(), suffix);
      line("    {}}};", all);
      if (i == 0) continue;
      line("inline constexpr kwind::schema::EntitiesInfo entities{} =\n    {};", suffix,
           Members()
               .add("up_to", protocol_.entities_up_to)
               .add("types", "entity_types" + suffix)
               .add("version", ranges[i].newest)
               .add_unless(1, "since", ranges[i].since)
               .text());
      older += (older.empty() ? "&entities" : ", &entities") + suffix;
    }
    if (older.empty()) return;
    line("inline constexpr std::array<const kwind::schema::EntitiesInfo*, {}> older_entities = {{",
         ranges.size() - 1);
    line("    {}}};", older);
  }

  // The entities as one side has them: with its own local fields, and without the other's.
  void side_header(schema::Local side) {
    const auto has_local = [&](const schema::Entity& entity) {
      return std::any_of(entity.fields.begin(), entity.fields.end(),
                         [&](const Field& field) { return field.words.local == side; });
    };
    if (std::none_of(protocol_.entities.begin(), protocol_.entities.end(), has_local)) return;
    const std::string word = side == schema::Local::server ? "server" : "client";
    CppHeader header(source_);
    header_ = &header;
    header.ours(fmt::format("\"{}.h\"", protocol_.name));
    // Entities without local fields are the same on both sides.
    for (const schema::Entity& entity : protocol_.entities) {
      if (!has_local(entity)) {
        line("using ::{}::{};\n", space_, entity.name);
        continue;
      }
      line("/// {} with what the {} alone keeps: those fields never travel.", entity.name, word);
      line("struct {0} : ::{1}::{0} {{", entity.name, space_);
      for (const Field& field : entity.fields) {
        if (field.words.local != side) continue;
        if (field.untyped) {
          header.system("<any>");
          header.text(cpp_comment(field.doc, "  "));
          line("  std::any {};  // whatever game code puts there", cpp_name(field.name));
        } else {
          member_text(field, "::" + space_ + "::");
        }
      }
      line("}};\n");
    }
    files_.push_back(
        header.file(fmt::format("{}_{}.h", protocol_.name, word), space_ + "::" + word));
    header_ = nullptr;
  }

  const Protocol& protocol_;
  std::string source_;
  std::string space_;
  CppTypes types_;
  CppCodec codec_;
  CppHeader* header_ = nullptr;
  std::vector<GeneratedFile> files_;
};

}  // namespace

std::vector<GeneratedFile> generate_cpp(const Protocol& protocol, std::string_view source_name) {
  return Generator(protocol, source_name).files();
}

}  // namespace kwind::language
