// Pages of a protocol in HTML and Markdown: for each declaration its direction, its bits as a
// drawing and a table of its fields. Whatever a comment says is escaped; a page never runs what it
// shows.
//
// Both pages have the same parts in the same order, and share the functions that make texts of
// them; only the markup differs. The drawings are those of layout.cpp: in HTML as SVG, in Markdown
// as characters (the form that RFCs use for packets).
#include "kwind/language/generate_doc.h"

#include <fmt/format.h>

#include <algorithm>

#include "kwind/core/digest.h"
#include "kwind/schema/runtime.h"
#include "language/layout.h"

namespace kwind::language {
namespace {

using schema::Field;
using schema::Protocol;

constexpr std::string_view kMarkup = "&<>\"";
constexpr std::string_view kTags = "&<";  // what would begin one in Markdown

// `which` of these characters are written as HTML has them.
std::string escaped(std::string_view text, std::string_view which = kMarkup) {
  std::string out;
  // Character by character; the rest passes unchanged, UTF-8 as well.
  for (const char c : text) {
    if (which.find(c) == std::string_view::npos) {
      out += c;
    } else {
      out += c == '&' ? "&amp;" : c == '<' ? "&lt;" : c == '>' ? "&gt;" : "&quot;";
    }
  }
  return out;
}

// "7 bytes" or "3 to 90 bytes, typically 12".
std::string bytes_text(const schema::Size& size) {
  // Bytes on the wire, rounded up as the encoder does.
  const std::size_t min = bits::bytes_for(size.min_bits);
  const std::size_t max = bits::bytes_for(size.max_bits);
  return min == max ? fmt::format("{} byte{}", max, max == 1 ? "" : "s")
                    : fmt::format("{} to {} bytes, typically {}", min, max,
                                  bits::bytes_for(size.typical_bits));
}

// How a message travels, in one sentence.
std::string direction_text(const Protocol& protocol, const schema::MessageType& message) {
  // Delivery and channel first: they decide what the application must expect.
  const auto& channel = protocol.channels[message.channel];
  std::string out = fmt::format("{}, {} on channel {}", name_of(message.direction),
                                name_of(channel.delivery), channel.name);
  if (!message.owner_field.empty()) {
    out += fmt::format(", by the owner of {} only", message.owner_field);
  }
  if (message.at_most_per_second > 0) {
    out += fmt::format(", at most {}/s", message.at_most_per_second);
  }
  if (message.split) out += ", in pieces where it is larger than a datagram";
  return out + schema::life_text(message.life, ", ");
}

// How changes of an entity travel.
std::string rate_text(const schema::Entity& entity) {
  // The words of the description's own syntax, in its order.
  const std::string rate = entity.at_most_per_second > 0
                               ? fmt::format(", sent at most {}/s", entity.at_most_per_second)
                               : "";
  const std::string freshness = entity.freshness == schema::Freshness::usual
                                    ? ""
                                    : fmt::format(", {}", name_of(entity.freshness));
  return "all of its state" + rate + freshness + schema::life_text(entity.life, ", ");
}

// Words of a channel beside its delivery.
std::string channel_words(const schema::Channel& channel) {
  std::vector<std::string> words;
  if (channel.repeat > 0) words.push_back(fmt::format("repeats {}", channel.repeat));
  if (channel.high) words.emplace_back("priority high");
  if (channel.bulk) words.emplace_back("bulk");
  if (!channel.life.whole()) words.push_back(schema::life_text(channel.life));
  return fmt::format("{}", fmt::join(words, ", "));
}

// A value or flag with its versions, its stand-in where a version lacks it, and its comment.
std::string option_text(const schema::Options& options, std::size_t place, bool stand_ins) {
  const schema::Option& option = options.options[place];
  // Versions and stand-ins in parentheses, then the comment.
  std::vector<std::string> more;
  if (!option.life.whole()) more.push_back(schema::life_text(option.life));
  // A flag that a version lacks is not set there.
  if (stand_ins && option.stand_in != place) {
    more.push_back("else " + options.options[option.stand_in].name);
  }
  if (!option.doc.empty()) more.push_back(option.doc);
  return more.empty() ? option.name : fmt::format("{} ({})", option.name, fmt::join(more, ", "));
}
// Names with their numbers and lives.
std::string options_text(const schema::Options& options, bool stand_ins) {
  std::vector<std::string> all;
  // In the order of the numbers.
  for (std::size_t i = 0; i < options.options.size(); ++i)
    all.push_back(option_text(options, i, stand_ins));
  return fmt::format("{}", fmt::join(all, ", "));
}

// Default, words and life of a field.
std::string words_text(const Protocol& protocol, const Field& field) {
  // Words in the order in which a description has them.
  std::vector<std::string> words;
  if (field.written_default) {
    words.push_back("default " + schema::value_text(protocol, field.type, *field.written_default));
  }
  if (field.words.at_spawn) words.emplace_back("at spawn");
  if (field.words.owner_only) words.emplace_back("owner only");
  if (field.words.smooth) words.emplace_back("smooth");
  if (field.words.freshness != schema::Freshness::usual) {
    words.emplace_back(name_of(field.words.freshness));
  }
  if (field.words.follow) {
    words.push_back("follows " + schema::follow_text(*field.words.follow));
    const schema::Fraction within = field.words.follow->within;
    if (within.num != 0) {
      words.back() += fmt::format(" within {}", within.value());
    }
  }
  if (!field.words.relative_to.empty()) {
    words.push_back("relative to " + field.words.relative_to);
  }
  if (!field.life.whole()) words.push_back(schema::life_text(field.life));
  return fmt::format("{}", fmt::join(words, ", "));
}

// The type as the description spells it, with its unit.
std::string type_text(const Protocol& protocol, const Field& field) {
  std::string out = schema::type_text(protocol, field.type);
  if (!field.unit.empty()) out += " in " + field.unit;
  return out;
}

// Doc comments of several lines stand in one cell.
std::string in_one_line(std::string text) {
  std::replace(text.begin(), text.end(), '\n', ' ');
  return text;
}

// ---- drawings ----

constexpr int kBitWidth = 30;
constexpr int kRowHeight = 46;
constexpr int kHead = 22;

// As much of a name as fits, a letter taking 8 units.
std::string fitted(const std::string& name, std::uint32_t width) {
  const std::size_t letters = width / 8;
  if (name.size() <= letters) return name;
  return letters < 4 ? std::string() : name.substr(0, letters - 1) + "\xe2\x80\xa6";
}

// The layout as an SVG drawing of 32 bits a row.
std::string drawing(const std::vector<LayoutCell>& cells) {
  if (cells.empty()) return "<p class=none>No bits: that it comes is all it says.</p>\n";
  const std::size_t rows = cells.back().row + 1;
  const int width = kBitWidth * static_cast<int>(kRowBits);
  const int height = kHead + kRowHeight * static_cast<int>(rows);
  std::string out = fmt::format(
      "<svg viewBox=\"-2 0 {} {}\" width=\"{}\" role=\"img\" aria-label=\"layout of the bits\">\n",
      width + 4, height + 2, width + 4);
  for (std::uint32_t bit = 0; bit < kRowBits; bit += 8) {
    out += fmt::format("<text class=at x=\"{}\" y=\"14\">{}</text>", bit * kBitWidth + 2, bit);
  }
  out += '\n';
  // One rectangle for each part of a field within a row of 32 bits.
  for (const LayoutCell& cell : cells) {
    const auto x = cell.first * kBitWidth;
    const auto y = kHead + static_cast<int>(cell.row) * kRowHeight;
    const auto w = cell.bits * kBitWidth;
    out += fmt::format("<g><rect class=\"{}\" x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\"/>",
                       cell.varies()          ? "varies"
                       : cell.number % 2 == 0 ? "even"
                                              : "odd",
                       x, y, w, kRowHeight - 8);
    // A field that goes on in the next row has its name in the first one only.
    const std::string name = escaped(cell.starts ? fitted(cell.path, w) : "");
    out += fmt::format("<text x=\"{}\" y=\"{}\">{}</text>", x + w / 2, y + 17, name);
    const std::string size =
        cell.varies()              ? fmt::format("{} to {} bits", cell.min_bits, cell.max_bits)
        : cell.starts && cell.ends ? fmt::format("{}", cell.bits)
                                   : fmt::format("{} of {}", cell.bits, cell.max_bits);
    // A digit takes 7 units. Where the text does not fit the number of bits may.
    if (w >= size.size() * 7 || cell.bits > 1) {
      out += fmt::format("<text class=size x=\"{}\" y=\"{}\">{}</text>", x + w / 2, y + 32,
                         w >= size.size() * 7 ? size : fmt::format("{}", cell.bits));
    }
    out += fmt::format("<title>{}: {} bits</title></g>\n", escaped(cell.path),
                       cell.varies() ? fmt::format("{} to {}", cell.min_bits, cell.max_bits)
                                     : fmt::format("{}", cell.max_bits));
  }
  return out + "</svg>\n";
}

// The same in characters, as RFCs draw packets.
std::string characters(const std::vector<LayoutCell>& cells) {
  std::string out = "     0               8               16              24\n";
  const std::string edge = "    +" + std::string(2 * kRowBits - 1, '-') + "+\n";
  if (cells.empty()) return "    (no bits: that it comes is all it says)\n";
  out += edge;
  std::size_t next = 0;
  // Rows of 32 bits; a field that is wider than the rest of a row continues in the next.
  for (std::size_t row = 0; row <= cells.back().row; ++row) {
    // Two characters a bit, and one for the right edge.
    std::string line(2 * kRowBits + 1, ' ');
    line.front() = '|';
    std::size_t end = 0;
    // The cells of this row.
    for (; next < cells.size() && cells[next].row == row; ++next) {
      const LayoutCell& cell = cells[next];
      std::string name = cell.starts ? cell.path : "...";
      if (cell.varies()) name += fmt::format(": {} to {} bits", cell.min_bits, cell.max_bits);
      // The name stands in the middle of the field, cut to its width.
      const std::size_t room = std::size_t{2} * cell.bits - 1;
      if (name.size() > room) name = name.substr(0, room);
      const std::size_t at = std::size_t{2} * cell.first + 1 + (room - name.size()) / 2;
      line.replace(at, name.size(), name);
      end = cell.first + cell.bits;
      line[2 * end] = '|';
    }
    line.resize(2 * end + 1);
    out += "    " + line + "\n";
    out += "    +" + std::string(2 * end - 1, '-') + "+\n";
  }
  return out;
}

// ---- HTML ----

constexpr std::string_view kStyle = R"(<style>
body { font: 16px/1.5 sans-serif; color: #1d2a33; background: #fbfaf7; margin: 0 auto;
  max-width: 1080px; padding: 24px 32px 64px; }
h1 { font-size: 30px; margin: 0 0 4px; } h2 { font-size: 22px; margin: 40px 0 8px;
  border-bottom: 2px solid #c9d4d6; } h3 { font-size: 18px; margin: 28px 0 2px; }
code, .type { font-family: monospace; font-size: 15px; }
table { border-collapse: collapse; margin: 8px 0 0; } td, th { text-align: left;
  padding: 3px 18px 3px 0; vertical-align: top; border-bottom: 1px solid #e3e6e1; }
th { color: #5a6b72; font-weight: normal; } td.number { text-align: right; }
p.way { margin: 0 0 8px; color: #5a6b72; } nav a { margin-right: 14px; white-space: nowrap; }
a { color: #11637a; } svg { display: block; margin: 6px 0; max-width: 100%; height: auto; }
svg text { font: 14px sans-serif; text-anchor: middle; fill: #1d2a33; }
svg text.at { font-size: 12px; text-anchor: start; fill: #5a6b72; }
svg text.size { font-size: 12px; fill: #44555c; }
rect { stroke: #46606a; stroke-width: 1.2; } rect.odd { fill: #d8e8ea; }
rect.even { fill: #eef0dc; } rect.varies { fill: #f6e7d3; stroke-dasharray: 6 4; }
</style>
)";

class Html {
 public:
  Html(const Protocol& protocol, std::string_view source) : protocol_(protocol), source_(source) {}

  // The HTML page: head, contents, one section for each group of declarations.
  std::string page() {
    out_ = fmt::format(
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>{0} "
        "{1}</title>\n{2}</head><body>\n<h1>{0}, version {1}</h1>\n",
        escaped(protocol_.name), protocol_.version, kStyle);
    paragraph(protocol_.doc);
    out_ += fmt::format(
        "<p class=way>Made by kwind from {}. Bits of a byte are counted from the "
        "lowest.</p>\n",
        escaped(source_));
    contents();
    section("Messages", protocol_.messages,
            [&](const schema::MessageType& message) { return direction_text(protocol_, message); });
    section("Entities", protocol_.entities, rate_text);
    section("Records", protocol_.records, [](const schema::Record&) { return std::string(); });
    names("Enums", protocol_.enums, true);
    names("Flags", protocol_.flags, false);
    channels();
    versions();
    return out_ + "</body></html>\n";
  }

 private:
  // A doc comment; nothing where there is none.
  void paragraph(const std::string& text) {
    if (!text.empty()) out_ += fmt::format("<p>{}</p>\n", escaped(text));
  }

  // Links to all declarations.
  void contents() {
    out_ += "<nav>";
    // Names of declarations are unique, so they serve as anchors.
    const auto links = [&](const auto& all) {
      // Messages, entities and records are linked alike.
      for (const auto& each : all) {
        out_ += fmt::format("<a href=\"#{0}\">{0}</a> ", escaped(each.name));
      }
    };
    links(protocol_.messages);
    links(protocol_.entities);
    links(protocol_.records);
    out_ += "<a href=\"#channels\">channels</a> <a href=\"#versions\">versions</a></nav>\n";
  }

  // Each version that is spoken, with its digest.
  void versions() {
    out_ += "<h2 id=\"versions\">Versions</h2>\n<table><tr><th>version</th><th>digest</th></tr>\n";
    // Newest first: readers look for the version that they build.
    for (std::uint16_t v = protocol_.version; v >= schema::oldest_version(protocol_); --v) {
      out_ += fmt::format("<tr><td>{}</td><td><code>{}</code></td></tr>\n", v,
                          to_hex(schema::digest_of(protocol_, v), 16));
    }
    out_ += "</table>\n";
  }

  // Channels in the order of their numbers.
  void channels() {
    out_ +=
        "<h2 "
        "id=\"channels\">Channels</h2>\n<table><tr><th>channel</th><th>delivery</th><th></th></"
        "tr>\n";
    for (const auto& channel : protocol_.channels) {
      const std::string words = channel_words(channel);
      out_ += fmt::format("<tr><td>{}</td><td>{}</td><td>{}{}{}</td></tr>\n", escaped(channel.name),
                          name_of(channel.delivery), words,
                          words.empty() || channel.doc.empty() ? "" : ". ", escaped(channel.doc));
    }
    out_ += "</table>\n";
  }

  // One section: a heading, the doc comment, size and layout, then the fields of each declaration.
  template <class Declaration, class Way>
  void section(std::string_view title, const std::vector<Declaration>& all, const Way& way) {
    if (all.empty()) return;
    out_ += fmt::format("<h2>{}</h2>\n", title);
    // One heading for each declaration, with an anchor of its name.
    for (const Declaration& each : all) {
      const schema::Size size = schema::size_of(protocol_, each.fields);
      out_ += fmt::format("<h3 id=\"{0}\">{0}</h3>\n", escaped(each.name));
      paragraph(each.doc);
      const std::string how = way(each);
      out_ += fmt::format("<p class=way>{}{}{} bits, {}</p>\n", escaped(how),
                          how.empty() ? "" : "; ", schema::bits_text(size), bytes_text(size));
      out_ += drawing(lay_out(protocol_, each.fields));
      table(each.fields);
    }
  }

  // Fields as a table: name, type, bits, words.
  void table(const std::vector<Field>& fields) {
    if (fields.empty()) return;
    out_ += "<table><tr><th>field</th><th>type</th><th>bits</th><th></th></tr>\n";
    // Local fields are listed, too, without bits.
    for (const Field& field : fields) {
      if (field.words.local != schema::Local::no) {
        out_ += fmt::format(
            "<tr><td>{}</td><td>{}</td><td></td><td>never travels. {}</td></tr>\n",
            escaped(field.name),
            field.words.local == schema::Local::server ? "server local" : "client local",
            escaped(field.doc));
        continue;
      }
      const std::string words = words_text(protocol_, field);
      out_ += fmt::format(
          "<tr><td>{}</td><td class=type>{}</td><td class=number>{}</td><td>{}{}{}</td></tr>\n",
          escaped(field.name), escaped(type_text(protocol_, field)),
          schema::bits_text(schema::size_of(protocol_, field.type)), escaped(words),
          words.empty() || field.doc.empty() ? "" : ". ", escaped(field.doc));
    }
    out_ += "</table>\n";
  }

  // Named enums, flags and choices.
  void names(std::string_view title, const std::vector<schema::Options>& all, bool stand_ins) {
    std::string rows;
    // Enums that are written inside a field are shown in that field's row.
    for (const auto& made : all) {
      if (!made.inside.empty()) continue;
      rows += fmt::format("<tr><td>{}</td><td>{}</td><td>{}</td></tr>\n", escaped(made.name),
                          escaped(options_text(made, stand_ins)), escaped(made.doc));
    }
    if (rows.empty()) return;
    out_ += fmt::format(
        "<h2>{}</h2>\n<table><tr><th>name</th><th>values, from 0</th><th></th></tr>"
        "\n{}</table>\n",
        title, rows);
  }

  const Protocol& protocol_;
  std::string source_;
  std::string out_;
};

// A cell of a Markdown table.
std::string cell_text(std::string_view text) {
  std::string out;
  for (const char c : text) {
    if (c == '|') out += '\\';
    out += c;
  }
  return out;
}
// A bar would end the cell, a tag would be read as HTML.
std::string cell(std::string text) {
  return cell_text(escaped(in_one_line(std::move(text)), kTags));
}
// Between backticks all is shown as it stands.
std::string code_cell(std::string text) {
  return fmt::format("`{}`", cell_text(in_one_line(std::move(text))));
}

// Channels and named types as Markdown tables.
std::string markdown_tables(const Protocol& protocol) {
  std::string out = "\n## Channels\n\n| channel | delivery | |\n|---|---|---|\n";
  for (const auto& channel : protocol.channels) {
    const std::string words = channel_words(channel);
    out += fmt::format("| {} | {} | {}{}{} |\n", channel.name, name_of(channel.delivery), words,
                       words.empty() || channel.doc.empty() ? "" : ". ", cell(channel.doc));
  }
  const auto names = [&](std::string_view title, const std::vector<schema::Options>& all,
                         bool stand_ins) {
    std::string rows;
    for (const auto& made : all) {
      if (!made.inside.empty()) continue;
      rows += fmt::format("| {} | {} | {} |\n", made.name, cell(options_text(made, stand_ins)),
                          cell(made.doc));
    }
    if (rows.empty()) return;
    out += fmt::format("\n## {}\n\n| name | values, from 0 | |\n|---|---|---|\n{}", title, rows);
  };
  names("Enums", protocol.enums, true);
  names("Flags", protocol.flags, false);
  return out;
}

}  // namespace

std::string generate_html(const Protocol& protocol, std::string_view source_name) {
  return Html(protocol, source_name).page();
}

// The Markdown page: the same parts as the HTML page.
std::string generate_markdown(const Protocol& protocol, std::string_view source_name) {
  std::string out = fmt::format("# {}, version {}\n\n", protocol.name, protocol.version);
  if (!protocol.doc.empty()) out += escaped(protocol.doc, kTags) + "\n\n";
  out += fmt::format(
      "Made by kwind from {}. Bits of a byte are counted from the lowest; two "
      "characters stand for a bit.\n\n",
      source_name);
  out += "| version | digest |\n|---|---|\n";
  for (std::uint16_t v = protocol.version; v >= schema::oldest_version(protocol); --v) {
    out += fmt::format("| {} | `{}` |\n", v, to_hex(schema::digest_of(protocol, v), 16));
  }
  const auto body = [&](const auto& each, const std::string& way) {
    const schema::Size size = schema::size_of(protocol, each.fields);
    out += fmt::format("\n## {}\n\n", each.name);
    if (!each.doc.empty()) out += escaped(each.doc, kTags) + "\n\n";
    out += fmt::format("{}{}{} bits, {}.\n\n", way, way.empty() ? "" : "; ",
                       schema::bits_text(size), bytes_text(size));
    out += characters(lay_out(protocol, each.fields));
    if (each.fields.empty()) return;
    out += "\n| field | type | bits | |\n|---|---|---|---|\n";
    for (const Field& field : each.fields) {
      if (field.words.local != schema::Local::no) {
        out += fmt::format("| {} | local | | never travels. {} |\n", field.name, cell(field.doc));
        continue;
      }
      const std::string words = words_text(protocol, field);
      out += fmt::format("| {} | {} | {} | {}{}{} |\n", field.name,
                         code_cell(type_text(protocol, field)),
                         schema::bits_text(schema::size_of(protocol, field.type)), cell(words),
                         words.empty() || field.doc.empty() ? "" : ". ", cell(field.doc));
    }
  };
  for (const auto& message : protocol.messages) body(message, direction_text(protocol, message));
  for (const auto& entity : protocol.entities) body(entity, "Entity, " + rate_text(entity));
  for (const auto& record : protocol.records) body(record, "Record");
  return out + markdown_tables(protocol);
}

}  // namespace kwind::language
