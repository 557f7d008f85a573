// Messages, pieces and pairs of any shape at the receiving half of all deliveries: memory stays
// within its bounds, reliable messages come once, ordered ones in turn. The input is a series of
// bodies of datagrams, each behind its length.
#include <cstdint>
#include <cstdlib>
#include <set>
#include <vector>

#include "kit/sim_pair.h"
#include "link/delivery/channels.h"

using namespace kwind;

namespace {

constexpr std::size_t kReassembly = 65536;

}  // namespace

extern "C" int kwind_fuzz_one(const std::uint8_t* data, std::size_t size) {
  auto specs = kit::every_delivery();
  for (auto& spec : specs) spec.window_bytes = link::kFirstWindowBytes;
  link::Channels channels(specs, specs.size(), kReassembly, link::TransportKind::datagrams);
  link::Inbox inbox;
  std::vector<link::Frame> frames;
  std::size_t out_bytes = 0;  // bytes of messages taken out
  std::uint64_t packet = 1000;
  for (std::size_t at = 0; at + 1 < size; ++packet) {
    const std::size_t bytes = std::min<std::size_t>(data[at], size - at - 1);
    const auto body = std::as_bytes(std::span(data + at + 1, bytes));
    at += 1 + bytes;
    if (link::read_frames(bits::Reader(body), specs, packet, frames) != Errc::none) continue;
    bool fits = true;
    for (const link::Frame& frame : frames) fits = fits && channels.in_window(frame);
    if (!fits) return 0;  // it would close
    for (const link::Frame& frame : frames) {
      if (frame.kind != link::FrameKind::message && frame.kind != link::FrameKind::piece &&
          frame.kind != link::FrameKind::parity) {
        continue;
      }
      if (channels.receive(frame, inbox) != Errc::none) return 0;
    }
    // The game takes messages every other time.
    if (packet % 2 == 0) continue;
    while (const auto message = inbox.take()) {
      if (message->bits > message->payload.size() * 8) std::abort();
      if (message->payload.size() > link::kMaxMessageBytes) std::abort();
      channels.handed_out(message->channel, message->bits);
      out_bytes += message->payload.size();
    }
    inbox.reclaim();
    // What came out is at most what went in: a pair gives no more than its own bytes either.
    if (out_bytes > size) std::abort();
  }
  return 0;
}
