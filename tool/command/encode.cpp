// `kwind encode` and `kwind decode`: JSON lines to bits and back, line by line.
#include <fmt/format.h>

#include <fstream>
#include <iostream>
#include <memory>

#include "commands.h"
#include "kwind/json/json.h"
#include "kwind/json/text.h"
#include "kwind/schema/runtime.h"
#include "lookup.h"

namespace kwind::tool {
namespace {

struct EncodeArguments {
  std::string file;
  std::string message;
  std::string input;
  std::uint32_t version = 0;
  bool binary = false;
  bool clamp = false;
};

constexpr std::size_t kMaxBytes = language::kMaxSplitBytes + 8;

class Converter {
 public:
  // False if the arguments do not fit; what is wrong was said.
  bool open(const EncodeArguments& arguments, int& code) {
    arguments_ = arguments;
    code = kFoundWrong;
    if (!load_source(arguments.file, source_)) return false;
    code = kUsedWrongly;
    fields_ = find_body(source_.protocol, arguments.message);
    if (fields_ == nullptr || !check_version(source_.protocol, arguments_.version)) return false;
    if (!arguments.input.empty()) {
      file_.open(arguments.input, std::ios::binary);
      if (!file_) {
        fmt::print(stderr, "{}: cannot read the file; check its name and permissions\n",
                   arguments.input);
        code = kFoundWrong;
        return false;
      }
    }
    return true;
  }

  // One JSON object a line; a line that is wrong is reported, and the next one is read.
  int encode() {
    std::string line;
    while (std::getline(in(), line)) {
      ++line_;
      if (line.find_first_not_of(" \t\r") == std::string::npos) continue;
      if (const auto parsed = json::parse_text(line)) {
        encode_line(*parsed);
      } else {
        wrong(parsed.error().text);
      }
    }
    return code_;
  }

  // One text of bits a line, or binary records.
  int decode() {
    if (arguments_.binary) return decode_binary();
    std::string line;
    while (std::getline(in(), line)) {
      ++line_;
      if (line.find_first_not_of(" \t\r") == std::string::npos) continue;
      const auto text = parse_bits(line);
      if (!text) {
        wrong("not bits; expected bytes in hexadecimal, as in 5f03 or 5f03:11");
      } else {
        decode_bits(text->bytes, text->bits.value_or(text->bytes.size() * 8),
                    !text->bits.has_value());
      }
    }
    return code_;
  }

 private:
  std::istream& in() { return file_.is_open() ? static_cast<std::istream&>(file_) : std::cin; }

  void wrong(const std::string& what) {
    fmt::print(stderr, "{} {}: {}\n", arguments_.binary ? "message" : "line", line_, what);
    code_ = kFoundWrong;
  }

  // Checks, encodes and writes one line's value.
  void encode_line(const nlohmann::ordered_json& json) {
    const auto value = json::from_json(source_.protocol, *fields_, json);
    if (!value) return wrong(value.error());
    schema::Encoder out(bits::Writer(memory_), bits::Policy::clamp,
                        static_cast<std::uint16_t>(arguments_.version));
    const auto spans = schema::encode_explained(source_.protocol, *fields_, *value, memory_, out);
    out.finish();
    if (out.error() != Errc::none) return wrong(std::string(error_info(out.error()).text));
    if (out.out_of_range_count() > 0) {
      for (const schema::Span& span : spans) {
        if (!span.fault) continue;
        const std::string what =
            fmt::format("{}: {} is outside `{}`", span.path, span.value, span.type);
        if (!arguments_.clamp) return wrong(what + "; --clamp moves it to the nearest end");
        fmt::print(stderr, "line {}: {}, moved to the nearest end\n", line_, what);
      }
    }
    put(out.bit_count());
  }

  // Bits as text, or a length and bytes.
  void put(std::size_t bits) {
    if (!arguments_.binary) {
      fmt::print("{}\n", bits_text(memory_, bits));
      return;
    }
    std::array<std::byte, 4> head{};
    bits::Writer writer(head);
    writer.put(bits, 32);
    writer.finish();
    std::cout.write(reinterpret_cast<const char*>(head.data()), 4);
    std::cout.write(reinterpret_cast<const char*>(memory_.data()),
                    static_cast<std::streamsize>(bits::bytes_for(bits)));
  }

  // Records of a length of 32 bits and as many bits.
  int decode_binary() {
    std::array<std::byte, 4> head{};
    while (in().read(reinterpret_cast<char*>(head.data()), 4)) {
      ++line_;
      const std::size_t bits = bits::Reader(head).get(32);
      const std::size_t bytes = bits::bytes_for(bits);
      if (bytes > memory_.size() || !in().read(reinterpret_cast<char*>(memory_.data()),
                                               static_cast<std::streamsize>(bytes))) {
        wrong("the input ends inside it, or its length is wrong");
        return code_;
      }
      decode_bits(std::span(memory_).first(bytes), bits, false);
    }
    if (in().gcount() > 0) wrong("the input ends inside the number of its bits");
    return code_;
  }

  // The bits of one message as a JSON line; bits behind the last field are an error.
  void decode_bits(std::span<const std::byte> bytes, std::size_t bits, bool may_be_padded) {
    schema::Decoder decoder(bits::Reader(bytes, bits),
                            static_cast<std::uint16_t>(arguments_.version));
    schema::decode_value(source_.protocol, *fields_, decoder, value_);
    Errc error = decoder.error();
    if (const std::size_t left = decoder.left_bits(); error == Errc::none && left > 0) {
      // Only the last byte can hold them.
      const bool padding =
          may_be_padded && left < 8 && std::to_integer<unsigned>(bytes.back()) >> (8 - left) == 0;
      if (!padding) error = Errc::trailing_bits;
    }
    if (error != Errc::none) {
      return wrong(fmt::format("{}; `kwind explain` shows where", error_info(error).text));
    }
    fmt::print("{}\n", json::text_of(json::to_json(source_.protocol, *fields_, value_)));
  }

  EncodeArguments arguments_;
  language::Compiled source_;
  const std::vector<schema::Field>* fields_ = nullptr;
  std::ifstream file_;
  std::vector<std::byte> memory_ = std::vector<std::byte>(kMaxBytes);
  schema::Value value_;
  std::size_t line_ = 0;
  int code_ = kFine;
};

// Options that encode and decode share.
Command add(Command app, const std::string& name, const std::string& about,
            const std::shared_ptr<EncodeArguments>& arguments) {
  Command command = app.add_subcommand(name, about);
  command.add_option("FILE", arguments->file, "The description, a .kw file").required();
  command.add_option("MESSAGE", arguments->message, "A message, entity or record").required();
  command.add_option("--in", arguments->input, "Read this file instead of the standard input");
  command.add_option("--version-of", arguments->version,
                     "The version in whose layout the bits are; the newest if not given");
  command.add_flag("--binary", arguments->binary,
                   "Bits as bytes: for each message the number of its bits (32 bits, lowest byte "
                   "first) and then its bytes");
  return command;
}

}  // namespace

// The options of `kwind encode`.
void add_encode(Command app, std::function<int()>& chosen) {
  auto arguments = std::make_shared<EncodeArguments>();
  Command command = add(app, "encode", "Turn JSON lines into the bits of a message", arguments);
  command.add_flag("--clamp", arguments->clamp,
                   "Move values that are out of range to the nearest end instead of refusing");
  command.footer(
      "Example:\n  echo '{\"rudder\": 0.25, \"throttle\": 50}' |\n"
      "    kwind encode examples/harbour/harbour.kw Helm");
  command.callback([arguments, &chosen] {
    chosen = [arguments] {
      Converter converter;
      int code = kFine;
      return converter.open(*arguments, code) ? converter.encode() : code;
    };
  });
}

// The options of `kwind decode`.
void add_decode(Command app, std::function<int()>& chosen) {
  auto arguments = std::make_shared<EncodeArguments>();
  Command command = add(app, "decode", "Turn the bits of messages into JSON lines", arguments);
  command.footer("Example:\n  echo 5019:15 | kwind decode examples/harbour/harbour.kw Helm");
  command.callback([arguments, &chosen] {
    chosen = [arguments] {
      Converter converter;
      int code = kFine;
      return converter.open(*arguments, code) ? converter.decode() : code;
    };
  });
}

}  // namespace kwind::tool
