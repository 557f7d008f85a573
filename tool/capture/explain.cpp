// Explains a capture datagram by datagram, and can write one that holds the opened datagrams.
#include "capture/explain.h"

#include <fmt/format.h>

#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>
#include <optional>

#include "capture/print.h"
#include "generate.h"
#include "kwind/capture/account.h"
#include "kwind/capture/pcapng.h"
#include "kwind/io/udp_transport.h"
#include "kwind/json/text.h"
#include "read_files.h"

namespace kwind::tool {
namespace {

// A datagram as it was before sealing, in the form of plaintext mode, which analysers can read: a
// check of zeros in place of the tag. Of a handshake only the hello is kept, which names the mode;
// offers and answers stay encrypted, as no datagram key opens them.
std::optional<capture::Packet> opened_packet(const capture::Packet& packet,
                                             const link::ObservedDatagram& datagram) {
  constexpr std::size_t kModeAt = 11;
  constexpr std::size_t kCheckBytes = 4;
  if (!datagram.encrypted) return packet;
  capture::Packet out = packet;
  if (datagram.form == "hello") {
    out.payload[kModeAt] = std::byte{1};
    return out;
  }
  if (datagram.form != "data" || !datagram.opened) return std::nullopt;
  out.payload = datagram.plain;
  out.payload.resize(out.payload.size() + kCheckBytes);
  return out;
}

bool travels_again(const capture::Line& line) {
  return std::any_of(line.entries.begin(), line.entries.end(),
                     [](const capture::Entry& entry) { return entry.again != capture::Again::no; });
}

int complain(const std::string& sentence) {
  fmt::print(stderr, "{}\n", sentence);
  return kFoundWrong;
}

// The capture of opened datagrams that --output asks for.
class OpenedCapture {
 public:
  /// Empty, or why it cannot be written.
  std::string open(const CaptureOptions& wanted) {
    path_ = wanted.opened;
    if (path_.empty()) return {};
    std::error_code ignored;
    if (std::filesystem::equivalent(path_, wanted.capture, ignored)) {
      return fmt::format("--output {}: is the capture itself; name another file", path_);
    }
    file_.open(path_, std::ios::binary);
    file_ << capture::pcapng_start("opened by kwind explain: checks are zeros");
    if (file_.flush().good()) return {};
    return fmt::format("--output {}: cannot be written; is there such a folder?", path_);
  }
  // Writes the datagram again with its body decrypted, for tools that cannot decrypt.
  void add(const capture::Packet& packet, const capture::Line& line) {
    if (!file_.is_open() || line.datagram.form == "foreign") return;
    const auto plain = opened_packet(packet, line.datagram);
    if (!plain) return;
    file_ << capture::pcapng_packet(*plain);
    ++kept_;
  }
  /// Empty, or why it was not written.
  std::string finish() {
    if (!file_.is_open() || file_.flush().good()) return {};
    return fmt::format("--output {}: cannot be written", path_);
  }
  void print() const {
    if (kept_ > 0) fmt::print("\n{}: {} datagrams, opened\n", path_, kept_);
  }

 private:
  std::string path_;
  std::ofstream file_;
  std::size_t kept_ = 0;
};

// The lines of datagrams: printed one by one, or kept as JSON.
struct Listing {
  nlohmann::ordered_json lines = nlohmann::ordered_json::array();
  std::size_t listed = 0;
  std::size_t left_out = 0;

  // Lines that the options select; the others are counted all the same.
  void add(const CaptureOptions& wanted, const capture::Line& line, std::int64_t start) {
    if (wanted.again && !travels_again(line)) return;
    if (wanted.first > 0 && listed >= wanted.first) {
      ++left_out;
      return;
    }
    ++listed;
    if (wanted.json) {
      lines.push_back(line_json(line, start));
    } else {
      fmt::print("{}", line_text(line, start, wanted.fields));
    }
  }
};

// The parts of all datagrams: headers, acks, messages by type, repeats, tags.
void print_sums(const CaptureOptions& wanted, const capture::Contents& contents,
                const capture::Account& account, Listing listing, const OpenedCapture& opened) {
  if (wanted.json) {
    nlohmann::ordered_json out = account_json(account);
    out["other_packets"] = contents.other;
    out["cut_short"] = contents.cut;
    out["ends_early"] = contents.ends_early;
    out["datagrams"] = std::move(listing.lines);
    fmt::print("{}\n", json::text_of(out, 2));
    return;
  }
  if (listing.left_out > 0) {
    fmt::print("... and {} more; --first {} lists them all\n", listing.left_out, 0);
  }
  fmt::print("{}{} datagrams of {} connection{}\n\n{}", listing.listed > 0 ? "\n" : "",
             contents.packets.size() - account.foreign(), account.connections(),
             account.connections() == 1 ? "" : "s", account_text(account));
  opened.print();
}

// What was not shown, and what to do about it.
void print_gaps(const CaptureOptions& wanted, const capture::Contents& contents,
                const capture::Account& account, bool has_keys) {
  if (contents.ends_early) {
    fmt::print(stderr, "{}: ends within a packet; what came before it is shown\n", wanted.capture);
  }
  if (contents.cut > 0) {
    fmt::print(stderr, "{}: {} datagrams were not captured whole and are left out\n",
               wanted.capture, contents.cut);
  }
  if (account.foreign() > 0) {
    fmt::print(stderr, "{}: {} datagrams are of no connection that began in the capture{}\n",
               wanted.capture, account.foreign(),
               wanted.server.empty() ? "; --server HOST:PORT says where a server is" : "");
  }
  if (account.unopened() > 0) {
    fmt::print(stderr, "{}: {} datagrams stay encrypted; {}\n", wanted.capture, account.unopened(),
               has_keys
                   ? "their keys are not in that file"
                   : "--key-log FILE opens them, with keys that the server or a client logged");
  }
  if (account.unread() > 0) {
    fmt::print(stderr,
               "{}: {} datagrams are open and do not fit {}; name the description that the server "
               "was built from\n",
               wanted.capture, account.unread(), wanted.description);
  }
}

}  // namespace

// Reads the capture datagram by datagram; one that no key opens is listed with its header.
int explain_capture(const CaptureOptions& wanted) {
  language::Compiled source;
  if (!load_source(wanted.description, source)) return kFoundWrong;
  const auto contents = load_capture(wanted.capture);
  auto keys = load_keys(wanted.keys);
  if (!contents || !keys) return kFoundWrong;
  capture::AccountOptions options;
  options.fields = wanted.fields;
  options.observer.keys = std::move(*keys);
  if (!wanted.server.empty()) {
    const auto server = io::resolve(wanted.server);
    if (!server) return complain(fmt::format("--server {}: not HOST:PORT", wanted.server));
    options.observer.server = *server;
  }
  const bool has_keys = !options.observer.keys.empty();
  capture::Account account(source.protocol, std::move(options));
  OpenedCapture opened;
  if (const std::string problem = opened.open(wanted); !problem.empty()) return complain(problem);
  Listing listing;
  const std::int64_t start = contents->packets.empty() ? 0 : contents->packets.front().unix_ns;
  for (const capture::Packet& packet : contents->packets) {
    const capture::Line line = account.add(packet);
    opened.add(packet, line);
    listing.add(wanted, line, start);
  }
  if (const std::string problem = opened.finish(); !problem.empty()) return complain(problem);
  print_sums(wanted, *contents, account, std::move(listing), opened);
  std::fflush(stdout);
  print_gaps(wanted, *contents, account, has_keys);
  if (account.connections() == 0) {
    return complain(fmt::format("{}: no connection of ours is in it", wanted.capture));
  }
  return account.unopened() + account.unread() == 0 ? kFine : kFoundWrong;
}

}  // namespace kwind::tool
