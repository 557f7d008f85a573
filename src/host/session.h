// One connection as Server and Client both see it: a link, the rate limits of each kind of message
// in both directions, and ordered messages held back because they came faster than their limit. One
// session, one thread.
#pragma once
#include <deque>
#include <string>
#include <vector>

#include "kwind/host/message_packer.h"
#include "kwind/host/options.h"
#include "kwind/io/port.h"
#include "kwind/link/link.h"
#include "kwind/route/rate_limit.h"
#include "kwind/schema/kind_codes.h"

namespace kwind::host {

/// What every session of one host shares.
struct Wire {
  Wire(const schema::ProtocolInfo& protocol, schema::Direction incoming, const Options& options);

  const schema::ProtocolInfo& protocol;
  std::vector<schema::KindCodes> incoming;  ///< as protocol.versions
  std::optional<ClearMode> clear_mode;
  Timeouts timeouts;
  CauseCounts drops;  ///< of messages
  std::uint64_t sends_refused = 0;

  /// Requires: the protocol speaks `version`.
  [[nodiscard]] const schema::KindCodes& incoming_of(std::uint16_t version) const {
    return incoming[static_cast<std::size_t>(protocol.version - version)];
  }
  [[nodiscard]] bool permits(const Endpoint& other) const {
    return clear_mode != ClearMode::loopback_only || other.is_loopback();
  }
};

link::LinkOptions link_options(const schema::ProtocolInfo& protocol, const Options& options,
                               const bits::Secret32& seed);
/// 32 random bytes: the system's, or those that the options give.
bits::Secret32 seed_of(const Options& options);
link::Identity identity_of(const schema::ProtocolInfo& protocol);

class Session {
 public:
  Session(Wire& wire, link::Link link);

  /// Hands a message to the link. Errors: rate_limited and those of Link::send.
  Errc send(Time now, const PackedMessage& message);

  /// What an event of the link, or the end of a message's waiting, means to the host.
  class Sink {
   public:
    virtual ~Sink() = default;
    virtual void opened() = 0;
    /// A message of a known kind; its fields stand next in the reader. Returns what decoding said.
    virtual Errc message(std::uint16_t kind, const bits::Reader& fields,
                         schema::Layout& layout) = 0;
    virtual void closed(Errc code, std::string_view text) = 0;
  };
  /// Takes the link's events and the messages held back that may pass now.
  void drain(Time now, Sink& sink);

  /// Sends what the link has to send through `port`, to `to` or where the link says.
  void pump_out(Time now, io::Port& port, const std::optional<Endpoint>& to);
  [[nodiscard]] Time next_wakeup() const;

  link::Link& link() { return link_; }
  [[nodiscard]] const link::Link& link() const { return link_; }

 private:
  struct Held {
    std::uint16_t kind;
    std::vector<std::byte> bytes;
    std::size_t bits;
    Time since;
  };
  static constexpr std::size_t kMostHeld =
      256;  // per channel; more closes, as does waiting too long

  void hear(Time now, const link::Event& event, Sink& sink);
  void release_held(Time now, Sink& sink);
  void deliver(std::uint16_t kind, const bits::Reader& message, Sink& sink);

  Wire* wire_;
  link::Link link_;
  std::vector<route::RateLimit> out_limits_;  // by kind
  std::vector<route::RateLimit> in_limits_;   // by kind
  std::vector<std::deque<Held>> held_;        // by channel
  std::size_t held_count_ = 0;
  schema::Layout layout_;
};

}  // namespace kwind::host
