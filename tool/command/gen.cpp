// `kwind gen`: writes code, pages, test vectors and the plugin for the packet analyser.
#include <fmt/format.h>

#include <memory>

#include "commands.h"
#include "kwind/json/vectors.h"
#include "kwind/language/generate_dissector.h"
#include "kwind/language/generate_doc.h"
#include "kwind/language/generate_typescript.h"

namespace kwind::tool {
namespace {

struct GenArguments {
  std::string file;
  std::string cpp;
  std::string c;
  std::string typescript;
  std::string doc;
  std::string vectors;
  std::string dissector;
};

// Says what was written; a file that has the text already stays untouched.
int put(const std::filesystem::path& path, const std::string& text) {
  switch (write_text(path, text)) {
    case Written::failed: return kFoundWrong;
    case Written::wrote: fmt::print("wrote {}\n", path.string()); return kFine;
    case Written::same: fmt::print("unchanged {}\n", path.string()); return kFine;
  }
  return kFine;
}

// Each kind of output that was asked for; the first failure ends the run.
int generate(const GenArguments& arguments) {
  if (arguments.cpp.empty() && arguments.c.empty() && arguments.typescript.empty() &&
      arguments.doc.empty() && arguments.vectors.empty() && arguments.dissector.empty()) {
    fmt::print(stderr,
               "kwind gen: say what to write: --cpp, --c, --typescript, --doc, --vectors or "
               "--dissector\n");
    return kUsedWrongly;
  }
  language::Compiled source;
  if (!load_source(arguments.file, source)) return kFoundWrong;
  const std::string name = std::filesystem::path(arguments.file).filename().string();
  int code = kFine;
  if (!arguments.cpp.empty()) code = generate_cpp(arguments.file, arguments.cpp, false);
  if (!arguments.c.empty()) {
    code = std::max(code, generate_c(arguments.file, arguments.c, false));
  }
  if (!arguments.typescript.empty()) {
    const auto made = language::generate_typescript(source.protocol, name);
    code = std::max(code, put(std::filesystem::path(arguments.typescript) / made.path, made.text));
  }
  if (!arguments.doc.empty()) {
    const std::filesystem::path dir = arguments.doc;
    code = std::max(code, put(dir / (source.protocol.name + ".html"),
                              language::generate_html(source.protocol, name)));
    code = std::max(code, put(dir / (source.protocol.name + ".md"),
                              language::generate_markdown(source.protocol, name)));
  }
  if (!arguments.vectors.empty()) {
    code = std::max(code, put(arguments.vectors, json::test_vectors(source.protocol)));
  }
  if (!arguments.dissector.empty()) {
    code = std::max(code,
                    put(arguments.dissector, language::generate_dissector(source.protocol, name)));
  }
  return code;
}

}  // namespace

// The options of `kwind gen`.
void add_gen(Command app, std::function<int()>& chosen) {
  auto arguments = std::make_shared<GenArguments>();
  Command command = app.add_subcommand("gen", "Write code and documents from a description");
  command.add_option("FILE", arguments->file, "The description, a .kw file").required();
  command.add_option("--cpp", arguments->cpp, "Write DIR/<protocol>.h and the headers it includes")
      .type_name("DIR");
  command
      .add_option("--c", arguments->c, "Write DIR/<protocol>_c.h for C: structs and their layouts")
      .type_name("DIR");
  command
      .add_option("--typescript", arguments->typescript,
                  "Write DIR/<protocol>.ts for the package kestrel-wind: types and tables")
      .type_name("DIR");
  command
      .add_option("--doc", arguments->doc,
                  "Write DIR/<protocol>.html and DIR/<protocol>.md, with the bits drawn")
      .type_name("DIR");
  command
      .add_option("--vectors", arguments->vectors,
                  "Write test vectors for ports to other languages, as JSON")
      .type_name("FILE");
  command
      .add_option("--dissector", arguments->dissector,
                  "Write a Lua plugin with which the packet analyser shows our datagrams")
      .type_name("FILE");
  command.footer(
      "Example:\n  kwind gen examples/harbour/harbour.kw --cpp build/generated\n\n"
      "In a CMake build, kwind_generate(TARGET FILE.kw) does what --cpp does.\n"
      "A plugin is tried with: tshark -X lua_script:FILE -r CAPTURE -V");
  command.callback([arguments, &chosen] { chosen = [arguments] { return generate(*arguments); }; });
}

}  // namespace kwind::tool
