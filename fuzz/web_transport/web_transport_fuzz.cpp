// Bytes of a hostile client to the WebTransport server. The first byte chooses: 0, the frames of a
// request stream and its header block, as they come after a handshake; else a packet, of which the
// server has not heard before.
#include <deque>

#include "kwind/core/assert.h"
#include "kwind/web_transport/web_transport_server.h"
#include "web_transport/http3.h"

namespace {

using kwind::Endpoint;
using kwind::web::RecordReader;

// One packet in, any number out.
class OnePacket final : public kwind::Transport {
 public:
  [[nodiscard]] Endpoint local() const override { return Endpoint::v4(10, 0, 0, 1, 443); }
  std::optional<kwind::ReceivedDatagram> receive(kwind::Time) override {
    if (packet.empty()) return std::nullopt;
    const auto bytes = std::exchange(packet, {});
    return kwind::ReceivedDatagram{Endpoint::v4(10, 0, 0, 9, 5000), bytes};
  }
  void send(kwind::Time, const Endpoint&, std::span<const std::byte> bytes) override {
    KWIND_ASSERT(!bytes.empty() && bytes.size() <= 1500);
    sent += bytes.size();
  }
  void flush(kwind::Time) override {}
  [[nodiscard]] const kwind::TransportCounts& counts() const override { return counts_; }
  std::span<const std::byte> packet;
  std::size_t sent = 0;

 private:
  kwind::TransportCounts counts_;
};

void read_records(std::string_view bytes) {
  class Sink final : public RecordReader::Sink {
   public:
    RecordReader::Value begins(std::uint64_t type) override {
      if (type == kwind::web::h3::kHeaders) return RecordReader::Value::whole;
      return type == kwind::web::h3::kData ? RecordReader::Value::pieces
                                           : RecordReader::Value::skipped;
    }
    bool value(std::uint64_t type, std::string_view value) override {
      KWIND_ASSERT(value.size() <= RecordReader::kMaxValueBytes || type == 0);
      if (type != kwind::web::h3::kHeaders) return true;
      const auto fields = kwind::web::read_header_block(0, value);
      if (fields) KWIND_ASSERT(fields->size() <= 65);
      return fields.has_value();
    }
  };
  // Cut in two anywhere, the result is the same.
  Sink sink;
  RecordReader whole;
  const bool fine = whole.feed(bytes, sink);
  RecordReader cut;
  const std::size_t half = bytes.size() / 2;
  KWIND_ASSERT((cut.feed(bytes.substr(0, half), sink) && cut.feed(bytes.substr(half), sink)) ==
               fine);
}

void read_packet(std::span<const std::byte> bytes) {
  static OnePacket* const udp = new OnePacket;  // the server owns it
  static const auto server =
      kwind::web::WebTransportServer::listen_over(std::unique_ptr<kwind::Transport>(udp));
  static kwind::Time now = kwind::Time(std::chrono::hours(1));
  KWIND_ASSERT(server.has_value());
  now += std::chrono::milliseconds(50);
  udp->packet = bytes;
  udp->sent = 0;
  while ((*server)->receive(now)) {
  }
  (*server)->flush(now);
  // Without a token nothing is amplified, and nothing is kept.
  KWIND_ASSERT(udp->sent <= 3 * bytes.size());
  KWIND_ASSERT((*server)->connections() == 0);
}

}  // namespace

extern "C" int kwind_fuzz_one(const std::uint8_t* data, std::size_t size) {
  if (size < 2) return 0;
  const auto bytes = std::as_bytes(std::span(data, size)).subspan(1);
  if (data[0] == 0) {
    read_records({reinterpret_cast<const char*>(bytes.data()), bytes.size()});
  } else {
    read_packet(bytes);
  }
  return 0;
}
