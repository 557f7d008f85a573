// Handshake datagrams of strangers at both ends, and what stands inside connects and answers once
// they are opened. The first byte chooses: raw; a connect with the cookie put right; payloads
// alone.
#include <algorithm>
#include <array>
#include <cstdint>
#include <cstdlib>
#include <vector>

#include "kit/sim_pair.h"
#include "kwind/link/link.h"
#include "kwind/link/listener.h"
#include "link/handshake/handshake.h"

using namespace kwind;

namespace {

const Time kNow{std::chrono::seconds(100)};

void payloads(std::span<const std::byte> bytes) {
  // What reads back must be written as it was read: one value, one byte string.
  if (bytes.size() == link::kConnectPayloadBytes) {
    if (const auto connect = link::read_connect(bytes)) {
      std::vector<std::byte> again(link::kConnectPayloadBytes);
      link::write(*connect, again);
      if (!std::equal(again.begin(), again.end(), bytes.begin())) std::abort();
    }
  }
  if (bytes.size() <= link::kMaxAcceptPayloadBytes) (void)link::read_accept(bytes);
}

}  // namespace

extern "C" int kwind_fuzz_one(const std::uint8_t* data, std::size_t size) {
  if (size < 2) return 0;
  std::vector<std::byte> datagram(size - 1);
  std::transform(data + 1, data + size, datagram.begin(),
                 [](std::uint8_t b) { return std::byte(b); });
  if (data[0] % 4 == 3) {
    datagram.resize(link::kConnectPayloadBytes);
    payloads(datagram);
    payloads(std::span(datagram).first(size - 1 < datagram.size() ? size - 1 : datagram.size()));
    return 0;
  }
  for (const bool sealed : {false, true}) {
    link::ListenerOptions options{kit::test_identity(), kit::secret_of(3), 4, 0};
    if (sealed) options.key = kit::server_key();
    link::Listener listener(options);
    const Endpoint from = Endpoint::loopback(9);
    std::vector<std::byte> knock = datagram;
    bool honest_cookie = false;
    if (data[0] % 4 == 1) {
      knock.resize(link::kBaseDatagramBytes);
      const auto cookie = link::make_cookie(derive(kit::secret_of(3), "cookies"), from, 7, kNow);
      link::write_connect_head(
          {link::kLinkVersion, 7, sealed ? link::Mode::encrypted : link::Mode::plaintext,
           link::TransportKind::datagrams},
          cookie, knock);
      honest_cookie = true;
    }
    std::array<std::byte, link::kBaseDatagramBytes> reply{};
    const auto outcome = listener.receive(kNow, from, knock, reply);
    if (outcome.reply_bytes > knock.size()) std::abort();  // amplification
    const auto exchanged = listener.exchange(kNow, reply);
    if (exchanged && !honest_cookie) std::abort();                // a cookie was guessed
    if (exchanged && exchanged->attempt && sealed) std::abort();  // a seal was guessed
    if (exchanged && exchanged->reply_bytes > knock.size()) std::abort();
    if (listener.admit(kNow, 0, knock)) std::abort();
    if (listener.reply_to_lost(knock, reply) >= std::max<std::size_t>(knock.size(), 1)) {
      std::abort();
    }
    link::LinkOptions link_options;
    link_options.channels = {{Delivery::ordered}};
    link::ConnectOptions who{kit::test_identity(), kit::secret_of(7)};
    if (sealed) who.server_key = kit::server_key().public_key;
    link::Link client = link::Link::connect(who, link_options, kNow);
    std::array<std::byte, link::kMaxDatagramBytes> out{};
    (void)client.poll_datagram(kNow, out);
    (void)client.receive(kNow, datagram);
    while (client.poll_event()) {
    }
  }
  return 0;
}
