// Handshake datagrams of strangers at both ends. The first byte chooses: raw, or with the check put
// right.
#include <algorithm>
#include <array>
#include <cstdint>
#include <cstdlib>
#include <vector>

#include "kwind/bits/digest.h"
#include "kwind/bits/writer.h"
#include "kwind/link/link.h"
#include "kwind/link/listener.h"

using namespace kwind;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 2) return 0;
  const link::Identity identity{"test", {{1, bits::blake2b_128("test")}}};
  std::vector<std::byte> datagram(size - 1);
  std::transform(data + 1, data + size, datagram.begin(),
                 [](std::uint8_t b) { return std::byte(b); });
  if (data[0] % 2 == 1) {
    if (data[0] % 4 == 1) datagram.resize(link::kMaxDatagramBytes - 4);  // a hello is padded
    const std::uint32_t check =
        bits::keyed_check(bits::blake2b_128("kestrel wind handshake 1"), datagram, 0);
    for (unsigned i = 0; i < 4; ++i) datagram.push_back(static_cast<std::byte>(check >> (8 * i)));
  }
  const Time now{std::chrono::seconds(100)};
  link::Listener listener({identity, {}, 4, 0});
  std::array<std::byte, link::kMaxDatagramBytes> reply{};
  const auto outcome = listener.receive(now, Endpoint::loopback(9), datagram, reply);
  if (outcome.reply_bytes > datagram.size()) std::abort();  // amplification
  if (outcome.admission) std::abort();                      // a cookie was guessed

  link::LinkOptions options;
  options.channels = {{Delivery::ordered}};
  link::Link client = link::Link::connect(identity, 7, options, now);
  (void)client.poll_datagram(now, reply);
  (void)client.receive(now, datagram);
  while (client.poll_event()) {
  }
  return 0;
}
