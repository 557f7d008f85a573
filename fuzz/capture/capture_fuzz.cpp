// Files that claim to be captures, and the datagrams in them: no crash, and every part of a
// datagram accounted for. What was read and written again must read the same.
#include <cstdint>
#include <cstdlib>
#include <string>

#include "kwind/capture/account.h"
#include "kwind/capture/key_log.h"
#include "kwind/capture/pcapng.h"
#include "kwind/language/compile.h"

using namespace kwind;

namespace {

const schema::Protocol& protocol() {
  static const language::Compiled compiled = language::compile(
      "protocol p 1\nchannel a unreliable\nchannel b sequenced\nchannel c ordered\n"
      "message A from both on a { n : int 0..9 }\nmessage B from both on b { t : text 9 }\n"
      "message C from both on c { l : list of int 0..9 up to 4 }\n");
  return compiled.protocol;
}

}  // namespace

extern "C" int kwind_fuzz_one(const std::uint8_t* data, std::size_t size) {
  const auto bytes = std::as_bytes(std::span(data, size));
  (void)capture::read_keys(std::string_view(reinterpret_cast<const char*>(data), size));
  const auto contents = capture::read_capture(bytes);
  if (!contents) return 0;
  capture::AccountOptions options;
  options.fields = true;
  options.observer.server = Endpoint::v4(10, 0, 0, 2, 4000);
  capture::Account account(protocol(), options);
  std::string again = capture::pcapng_start("");
  for (const capture::Packet& packet : contents->packets) {
    const capture::Line line = account.add(packet);
    std::size_t bits = 0;
    for (const auto& part : line.datagram.parts) bits += part.bits;
    if (bits != packet.payload.size() * 8) std::abort();
    again += capture::pcapng_packet(packet);
  }
  const auto second = capture::read_capture(std::as_bytes(std::span(again)));
  if (!second || second->packets.size() != contents->packets.size()) std::abort();
  for (std::size_t i = 0; i < second->packets.size(); ++i) {
    if (second->packets[i].payload != contents->packets[i].payload) std::abort();
  }
  return 0;
}
