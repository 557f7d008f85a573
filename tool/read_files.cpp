// Reads captures, keys and code tables: each with a limit on its size.
#include "read_files.h"

#include <fmt/format.h>

#include "generate.h"
#include "kwind/capture/key_log.h"

namespace kwind::tool {
namespace {

// What programs record may be long.
constexpr std::size_t kMaxRecordedBytes = std::size_t{4} << 30;

bool load_text(const std::string& path, std::string& text, std::size_t max_bytes = kMaxTextBytes) {
  if (read_text(path, text, max_bytes)) return true;
  const bool is_longer = text.size() > max_bytes;
  fmt::print(stderr, "{}: {}\n", path,
             is_longer ? fmt::format("longer than {} MiB, the most that is read", max_bytes >> 20)
                       : std::string("cannot be read"));
  return false;
}

}  // namespace

std::optional<capture::Contents> load_capture(const std::string& path) {
  std::string file;
  if (!load_text(path, file, kMaxRecordedBytes)) return std::nullopt;
  auto contents = capture::read_capture(std::as_bytes(std::span(file)));
  if (contents) return std::move(*contents);
  fmt::print(stderr, "{}: {}; a pcapng or pcap file is needed, as `kwind record` writes\n", path,
             error_info(contents.error()).text);
  return std::nullopt;
}

std::optional<std::vector<link::DatagramKey>> load_keys(const std::string& path) {
  if (path.empty()) return std::vector<link::DatagramKey>();
  std::string text;
  if (!load_text(path, text, kMaxRecordedBytes)) return std::nullopt;
  capture::KeyFile keys = capture::read_keys(text);
  if (keys.problem.empty()) return std::move(keys.keys);
  fmt::print(stderr, "{}: {}\n", path, keys.problem);
  return std::nullopt;
}

std::shared_ptr<const replica::CodeTables> load_codes(const std::string& path,
                                                      const schema::EntitiesInfo& entities) {
  std::string text;
  if (!load_text(path, text)) return nullptr;
  auto codes = replica::read_codes(text, entities);
  if (codes) return *codes;
  const std::string where = codes.error().line > 0 ? fmt::format(":{}", codes.error().line) : "";
  fmt::print(stderr, "{}{}: {}\n", path, where, codes.error().text);
  return nullptr;
}

}  // namespace kwind::tool
