// A peer that passed the handshake in plaintext mode and then sends what it likes: admissions with
// known keys, and datagrams with right checks and any frames.
#pragma once
#include <functional>
#include <memory>
#include <vector>

#include "kwind/core/digest.h"
#include "kwind/link/link.h"
#include "link/datagram/data_header.h"
#include "link/datagram/frames.h"
#include "link/handshake/agreed.h"

namespace kwind::kit {

inline constexpr link::ConnectionId kForgedId{0x0010000};

inline link::CheckKeys forged_keys() {
  link::CheckKeys keys;
  keys.up.fill(std::byte{0x17});
  keys.down.fill(std::byte{0x71});
  return keys;
}

inline link::Admission forged_admission() {
  link::Agreed agreed;
  agreed.id = kForgedId;
  agreed.version = 1;
  agreed.keys = forged_keys();
  link::Admission admission;
  admission.id = agreed.id;
  admission.version = 1;
  admission.agreed = std::make_shared<const link::Agreed>(agreed);
  return admission;
}

/// A data datagram of the client's (or the server's) with what `body` writes behind the header.
inline std::vector<std::byte> forged_datagram(const link::CheckKeys& keys, link::ConnectionId id,
                                              std::uint64_t number, bool from_client, bool acks,
                                              const std::function<void(bits::Writer&)>& body) {
  std::vector<std::byte> out(link::kMaxDatagramBytes);
  bits::Writer writer{std::span(out).first(out.size() - 4)};
  link::DataHeader header;
  header.has_acks = acks;
  header.wide = true;
  header.id = id;
  header.number_low = number;
  write(header, from_client, writer);
  body(writer);
  const std::size_t size = writer.finish();
  out.resize(size + 4);
  bits::Writer check{std::span(out).subspan(size)};
  check.put(keyed_check(from_client ? keys.up : keys.down, std::span(out).first(size), number), 32);
  check.finish();
  return out;
}

/// Zeros behind the last frame up to the byte are the end: nothing needs to be written for it.
inline std::vector<link::ChannelSpec> plain_channels() {
  return {{Delivery::unreliable}, {Delivery::sequenced}, {Delivery::ordered}, {Delivery::reliable}};
}

}  // namespace kwind::kit
