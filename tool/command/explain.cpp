// `kwind explain`: shows a payload or a capture bit by bit.
#include <fmt/format.h>

#include <memory>
#include <nlohmann/json.hpp>

#include "capture/explain.h"
#include "commands.h"
#include "kwind/json/text.h"
#include "kwind/schema/runtime.h"
#include "lookup.h"

namespace kwind::tool {
namespace {

struct ExplainArguments {
  std::string file;
  std::string message;
  std::string hex;
  std::uint32_t version = 0;
  bool json = false;
  CaptureOptions capture;
};

// Columns of text, each as wide as its widest cell.
std::size_t width(std::size_t min, const std::vector<schema::Span>& spans,
                  std::string schema::Span::*column) {
  for (const auto& span : spans) min = std::max(min, (span.*column).size());
  return min;
}

// A line for each field: path, bits, position and value.
void print_table(const schema::Explained& explained, const ExplainArguments& arguments,
                 std::size_t bits, std::size_t padding) {
  const auto& spans = explained.spans;
  const std::size_t path = width(5, spans, &schema::Span::path);
  const std::size_t raw = std::min<std::size_t>(24, width(3, spans, &schema::Span::raw));
  const std::size_t value = width(5, spans, &schema::Span::value);
  fmt::print("{} version {}: {} bits in {} bytes\n\n", arguments.message, arguments.version, bits,
             bits::bytes_for(bits));
  fmt::print("{:>9}  {:>4}  {:<{}}  {:>{}}  {:<{}}  {}\n", "bits", "size", "field", path, "raw",
             raw, "value", value, "type");
  for (const auto& span : spans) {
    const std::string range =
        span.bits == 0   ? std::string("-")
        : span.bits == 1 ? fmt::format("{}", span.first_bit)
                         : fmt::format("{}-{}", span.first_bit, span.first_bit + span.bits - 1);
    const std::string shown =
        span.raw.size() > raw ? span.raw.substr(0, raw - 3) + "..." : span.raw;
    fmt::print("{:>9}  {:>4}  {:<{}}  {:>{}}  {:<{}}  {}{}\n", range, span.bits, span.path, path,
               shown, raw, span.fault ? "" : span.value, value, span.type,
               span.fault ? "   <- wrong" : "");
  }
  if (padding > 0) fmt::print("{:>9}  {:>4}  zeros that fill the last byte\n", "", padding);
}

// The same as JSON.
nlohmann::ordered_json json_of(const schema::Explained& explained) {
  nlohmann::ordered_json out{{"error", error_info(explained.error).name},
                             {"bits", nlohmann::ordered_json::array()}};
  for (const auto& span : explained.spans) {
    out["bits"].push_back({{"path", span.path},
                           {"type", span.type},
                           {"first_bit", span.first_bit},
                           {"size", span.bits},
                           {"raw", span.raw},
                           {"value", span.value},
                           {"fault", span.fault}});
  }
  return out;
}

// A message's bits, or a capture.
int explain(ExplainArguments arguments) {
  if (!arguments.capture.capture.empty()) {
    if (!arguments.message.empty()) {
      fmt::print(stderr, "kwind explain: say either MESSAGE and HEX or --capture FILE, not both\n");
      return kUsedWrongly;
    }
    arguments.capture.description = arguments.file;
    arguments.capture.json = arguments.json;
    return explain_capture(arguments.capture);
  }
  if (!arguments.capture.opened.empty() || !arguments.capture.keys.empty()) {
    fmt::print(stderr, "kwind explain: --key-log and --output go with --capture\n");
    return kUsedWrongly;
  }
  if (arguments.message.empty() || arguments.hex.empty()) {
    fmt::print(stderr, "kwind explain: MESSAGE and HEX are required, or --capture FILE\n");
    return kUsedWrongly;
  }
  language::Compiled source;
  if (!load_source(arguments.file, source)) return kFoundWrong;
  const auto* fields = find_body(source.protocol, arguments.message);
  if (fields == nullptr || !check_version(source.protocol, arguments.version)) return kUsedWrongly;
  const auto text = parse_bits(arguments.hex);
  if (!text) {
    fmt::print(stderr,
               "kwind explain: `{}` is not bits; write bytes in hexadecimal, as in 5f03, or with "
               "their number of bits, as in 5f03:11\n",
               arguments.hex);
    return kUsedWrongly;
  }
  const schema::Layout layout{static_cast<std::uint16_t>(arguments.version), 0};
  std::size_t bits = text->bits.value_or(text->bytes.size() * 8);
  std::size_t padding = 0;
  auto explained = schema::explain(source.protocol, *fields, text->bytes, bits, layout);
  // Without a stated number the last byte may be padded.
  if (!text->bits && explained.error == Errc::trailing_bits && explained.spans.back().bits < 8 &&
      explained.spans.back().raw == "0") {
    padding = explained.spans.back().bits;
    bits -= padding;
    explained = schema::explain(source.protocol, *fields, text->bytes, bits, layout);
  }
  if (arguments.json) {
    fmt::print("{}\n", json::text_of(json_of(explained), 2));
  } else {
    print_table(explained, arguments, bits, padding);
  }
  if (explained.error == Errc::none) return kFine;
  std::fflush(stdout);
  fmt::print(stderr, "{}these bits are no {}: {}\n", arguments.json ? "" : "\n", arguments.message,
             error_info(explained.error).text);
  return kFoundWrong;
}

}  // namespace

// The options of `kwind explain`.
void add_explain(Command app, std::function<int()>& chosen) {
  auto arguments = std::make_shared<ExplainArguments>();
  Command command =
      app.add_subcommand("explain", "Say what each bit of a message is, or what a capture holds");
  command.add_option("FILE", arguments->file, "The description, a .kw file").required();
  command.add_option("MESSAGE", arguments->message, "A message, entity or record");
  command.add_option("HEX", arguments->hex,
                     "Its bytes in hexadecimal; :N behind them says how many bits they hold");
  command.add_option("--version-of", arguments->version,
                     "The version in whose layout they are; the newest if not given");
  command.add_flag("--json", arguments->json, "Print one JSON object");
  CaptureOptions& capture = arguments->capture;
  command
      .add_option("--capture", capture.capture,
                  "Explain a capture instead: its datagrams, and what their bytes were for")
      .type_name("FILE.pcapng");
  command
      .add_option("--key-log", capture.keys,
                  "The keys that were logged, to open encrypted datagrams")
      .type_name("FILE");
  command
      .add_option("-o,--output", capture.opened,
                  "Write the opened datagrams to a capture, for `kwind gen --dissector`")
      .type_name("FILE.pcapng");
  command
      .add_option("--server", capture.server,
                  "Where the server is, if the connections began before the capture")
      .type_name("HOST:PORT");
  command.add_option("--first", capture.first, "How many datagrams to list; 0: all")
      .capture_default_str();
  command.add_flag("--retransmitted", capture.again,
                   "List only those in which messages travel again");
  command.add_flag("--fields", capture.fields, "List the fields of messages too");
  command.footer(
      "Examples:\n  kwind explain examples/harbour/harbour.kw Helm 5019:15\n"
      "  kwind explain examples/harbour/harbour.kw --capture demo.pcapng --key-log demo.keys "
      "--retransmitted");
  command.callback([arguments, &chosen] { chosen = [arguments] { return explain(*arguments); }; });
}

}  // namespace kwind::tool
