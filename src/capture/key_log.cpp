// Keys of datagrams, one JSON object a line. A line that cannot be read is reported by its number.
#include "kwind/capture/key_log.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "kwind/core/digest.h"

namespace kwind::capture {
namespace {

constexpr const char* kCiphers[] = {"ChaCha20-Poly1305", "AES-256-GCM"};

// -1 for what is no digit.
int hex_digit(char c) {
  if (c >= '0' && c <= '9') return c - '0';
  if (c >= 'a' && c <= 'f') return c - 'a' + 10;
  return -1;
}

// False if `line` is no such object.
bool read_line(std::string_view line, link::DatagramKey& out) {
  const auto json = nlohmann::json::parse(line, nullptr, false);
  if (!json.is_object()) return false;
  const auto number = [&](const char* name, std::uint64_t max, std::uint64_t& value) {
    const auto found = json.find(name);
    if (found == json.end() || !found->is_number_unsigned()) return false;
    value = found->get<std::uint64_t>();
    return value <= max;
  };
  const auto text = [&](const char* name) {
    const auto found = json.find(name);
    return found != json.end() && found->is_string() ? found->get<std::string>() : std::string();
  };
  std::uint64_t id = 0;
  std::uint64_t version = 0;
  if (!number("connection", (1U << link::kConnectionIdBits) - 1, id) ||
      !number("version", 65535, version) || !number("phase", ~std::uint64_t{0}, out.phase)) {
    return false;
  }
  out.id = static_cast<link::ConnectionId>(id);
  out.version = static_cast<std::uint16_t>(version);
  const std::string way = text("way");
  const std::string cipher = text("cipher");
  const std::string key = text("key");
  if ((way != "up" && way != "down") || key.size() != 64) return false;
  out.up = way == "up";
  if (cipher != kCiphers[0] && cipher != kCiphers[1]) return false;
  out.cipher = cipher == kCiphers[1] ? 1 : 0;
  for (std::size_t i = 0; i < 32; ++i) {
    const int high = hex_digit(key[2 * i]);
    const int low = hex_digit(key[2 * i + 1]);
    if (high < 0 || low < 0) return false;
    out.key.bytes()[i] = static_cast<std::byte>(high * 16 + low);
  }
  return true;
}

}  // namespace

// One JSON object a line, as docs/wire-format.md specifies.
std::string key_line(const link::KeyNote& note) {
  return fmt::format(
      R"({{"connection":{},"version":{},"way":"{}","phase":{},"cipher":"{}","key":"{}"}})"
      "\n",
      static_cast<std::uint32_t>(note.id), note.version, note.up ? "up" : "down", note.phase,
      kCiphers[note.cipher], to_hex(note.key, note.key.size()));
}

// Reads line by line; the first that is wrong is named with its number.
KeyFile read_keys(std::string_view text) {
  KeyFile out;
  for (std::size_t line = 1; !text.empty(); ++line) {
    const std::size_t end = std::min(text.find('\n'), text.size());
    const std::string_view one = text.substr(0, end);
    text.remove_prefix(std::min(end + 1, text.size()));
    if (one.find_first_not_of(" \r\t") == std::string_view::npos) continue;
    link::DatagramKey key;
    if (read_line(one, key)) {
      out.keys.push_back(std::move(key));
    } else if (out.problem.empty()) {
      out.problem = fmt::format("line {}: not a key as `--key-log` writes it", line);
    }
  }
  return out;
}

}  // namespace kwind::capture
