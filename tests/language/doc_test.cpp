#include "kwind/language/generate_doc.h"

#include <gtest/gtest.h>

#include "kit/descriptions.h"
#include "kwind/language/compile.h"
#include "language/layout.h"

namespace kwind::language {
namespace doc_test {

using kit::description;

TEST(Layout, CoversEachBitOfWhatIsFixedOnce) {
  for (const char* name : {"chart", "hails", "manifest", "world"}) {
    const schema::Protocol protocol = description(name);
    for (const auto& message : protocol.messages) {
      std::uint32_t fixed = 0;
      std::size_t row = 0;
      std::uint32_t at = 0;
      std::uint32_t min = 0;
      for (const LayoutCell& cell : lay_out(protocol, message.fields)) {
        if (cell.row != row) {
          EXPECT_EQ(cell.row, row + 1) << "no row is left empty";
          row = cell.row;
          at = 0;
        }
        EXPECT_EQ(cell.first, at) << message.name << " " << cell.path;
        at += cell.bits;
        EXPECT_LE(at, kRowBits);
        fixed += cell.varies() ? 0 : cell.bits;
        min += cell.varies() ? cell.min_bits : 0;
      }
      EXPECT_EQ(fixed + min, schema::size_of(protocol, message.fields).min_bits) << message.name;
    }
  }
}

TEST(Doc, ShowsEveryDeclarationWithADrawing) {
  for (const char* name : {"chart", "hails", "manifest", "world"}) {
    const schema::Protocol protocol = description(name);
    const std::string html = generate_html(protocol, name);
    const std::string markdown = generate_markdown(protocol, name);
    EXPECT_EQ(html, generate_html(protocol, name));
    const auto has = [&](const std::string& all, const std::string& part) {
      EXPECT_NE(all.find(part), std::string::npos) << name << ": " << part;
    };
    std::size_t drawings = 0;
    for (std::size_t at = html.find("<svg"); at != std::string::npos;
         at = html.find("<svg", at + 1))
      ++drawings;
    std::size_t drawn = 0;
    const auto body = [&](const auto& each) {
      has(html, "<h3 id=\"" + each.name + "\">");
      has(markdown, "\n## " + each.name + "\n");
      drawn += each.fields.empty() ? 0 : 1;
      for (const auto& field : each.fields) {
        has(html, "<td>" + field.name + "</td>");
        has(markdown, "| " + field.name + " |");
      }
    };
    for (const auto& message : protocol.messages) body(message);
    for (const auto& entity : protocol.entities) body(entity);
    for (const auto& record : protocol.records) body(record);
    EXPECT_EQ(drawings, drawn);
    // The sections that the description has, and no others.
    const auto section = [&](const char* title, bool there) {
      EXPECT_EQ(html.find(std::string("<h2>") + title + "</h2>") != std::string::npos, there)
          << name << ": " << title;
    };
    section("Messages", !protocol.messages.empty());
    section("Entities", !protocol.entities.empty());
    section("Records", !protocol.records.empty());
  }
}

TEST(Doc, CarriesCommentsAndKeepsThemFromBecomingMarkup) {
  const Compiled compiled = compile(R"(# Tides & <b>boats</b>.
protocol p 1
channel c ordered
# Says | where.
message M from client on c {
  x : int 0..9  # left < right
}
)");
  ASSERT_TRUE(compiled.ok());
  const std::string html = generate_html(compiled.protocol, "p.kw");
  EXPECT_NE(html.find("<p>Tides &amp; &lt;b&gt;boats&lt;/b&gt;.</p>"), std::string::npos);
  EXPECT_NE(html.find("left &lt; right"), std::string::npos);
  EXPECT_NE(generate_markdown(compiled.protocol, "p.kw").find("Says | where."), std::string::npos);
}

TEST(Doc, CommentsAreNoTagsInMarkdownEither) {
  const Compiled made = compile(
      "# <script>alert(1)</script> & more\nprotocol p 1\nchannel c ordered\n"
      "# <b>bold</b>\nmessage M from client on c {\n  a : bool  # <i>x</i> | y\n}\n",
      "p.kw");
  ASSERT_TRUE(made.ok());
  const std::string page = generate_markdown(made.protocol, "p.kw");
  for (const char* tag : {"<script", "<b>", "<i>"}) {
    EXPECT_EQ(page.find(tag), std::string::npos) << tag << "\n" << page;
  }
  EXPECT_NE(page.find("&lt;script>alert(1)&lt;/script> &amp; more"), std::string::npos) << page;
}

// The pages leave out nothing that a declaration says: they suffice to build another end.
TEST(Doc, SaysAllThatADeclarationSays) {
  const Compiled compiled = compile(R"(protocol p 2, entities up to 100
channel c sequenced repeat 3  # newest only
channel news ordered bulk since 2
enum Cargo {
  empty
  salt until 2 else empty  # in sacks | or loose
  timber since 2 else empty
}
flags Handling { keep_dry, keep_cold since 2 }
entity Tug, at most 5/s {
  place   : vec2 of real 0..100 step 1/4 follow speed along heading within 0.5
  speed   : real 0..20 step 1/4 = 2.5
  heading : angle step 1
  name    : text 20 = "<b>|" at spawn
  depth   : real 0..<8 step 1/2
}
entity Buoy, lazy, at most 7/s { lit : bool urgent }
message M from owner of tug on c, split, at most 9/s {
  tug   : ref Tug
  cargo : Cargo = timber
  lines : list of bytes 200 up to 30
}
)");
  ASSERT_TRUE(compiled.ok()) << (compiled.errors.empty() ? "" : compiled.errors[0].message);
  const std::string html = generate_html(compiled.protocol, "p.kw");
  const std::string markdown = generate_markdown(compiled.protocol, "p.kw");
  for (const std::string& page : {html, markdown}) {
    for (const char* part :
         {"repeats 3. newest only", "bulk, since 2", "follows speed along heading within 0.5",
          "default 2.5", "default timber", "sent at most 5/s", "sent at most 7/s, lazy", "urgent",
          "at most 9/s", "in pieces where it is larger than a datagram", "by the owner of tug only",
          "timber (since 2, else empty)", "keep_cold (since 2)"}) {
      EXPECT_NE(page.find(part), std::string::npos) << part << "\n" << page;
    }
  }
  EXPECT_NE(html.find("salt (until 2, else empty, in sacks | or loose)"), std::string::npos);
  EXPECT_NE(html.find("default &quot;&lt;b&gt;|&quot;, at spawn"), std::string::npos);
  EXPECT_NE(markdown.find("default \"&lt;b>\\|\", at spawn"), std::string::npos) << markdown;
  EXPECT_NE(markdown.find("`real 0..<8 step 1/2`"), std::string::npos) << markdown;
  EXPECT_NE(markdown.find("in sacks \\| or loose"), std::string::npos) << markdown;
}

}  // namespace doc_test
}  // namespace kwind::language
