// One connection as Server and Client both see it: a link, the limits of what may come in, what
// waits because of them, and the requests in both directions. One session, one thread.
#pragma once
#include <deque>
#include <functional>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "kwind/core/transport.h"
#include "kwind/host/message_packer.h"
#include "kwind/host/options.h"
#include "kwind/host/tap.h"
#include "kwind/link/link.h"
#include "kwind/route/dispatcher.h"
#include "kwind/route/rate_limit.h"
#include "kwind/route/requests.h"
#include "kwind/schema/message_type_codes.h"

namespace kwind::host {

/// What every session of one host shares.
struct Wire {
  Wire(const schema::ProtocolInfo& protocol, schema::Direction incoming, const Options& options,
       TickBudget budget, unsigned max_faults);

  const schema::ProtocolInfo& protocol;
  std::vector<schema::MessageTypeCodes> incoming;  ///< as protocol.versions
  std::vector<schema::MessageTypeCodes> outgoing;  ///< for the tap
  std::optional<Plaintext> plaintext;
  Timeouts timeouts;
  bool hold_until_ready;
  std::size_t open_requests;
  TickBudget budget;
  bool paused = false;  ///< nothing reaches handlers now
  Time unpaused_since{};
  unsigned max_faults;  ///< of one peer's messages, after which it is closed; 0: never
  Tap tap{};
  std::function<void(const std::function<void()>&)>
      guard{};  ///< runs a tap, and counts what it throws
  std::optional<std::uint32_t> tap_peer{};
  CauseCounts drops;  ///< of messages
  std::uint64_t sends_refused = 0;
  /// Whether a peer may name an entity in its messages; empty: refs arrive as they are.
  std::function<bool(std::uint32_t peer, const schema::AnyRef&)> knows_entity{};
  std::uint64_t refs_emptied = 0;

  /// Requires: the protocol speaks `version`.
  [[nodiscard]] const schema::MessageTypeCodes& incoming_of(std::uint16_t version) const {
    return incoming[static_cast<std::size_t>(protocol.version - version)];
  }
  [[nodiscard]] bool permits(const Endpoint& other) const {
    return plaintext != Plaintext::loopback_only || other.is_loopback();
  }
  /// The counters of a host, but for those of its links.
  [[nodiscard]] Counts counts(const route::DispatchCounts& route,
                              const MessagePacker& packer) const;
};

/// `receive_window`: of each reliable or ordered channel, beyond its largest message.
link::LinkOptions link_options(const schema::ProtocolInfo& protocol, const Options& options,
                               schema::Direction incoming, const Secret32& secret,
                               std::size_t receive_window);
/// 32 random bytes: the system's, or those that the options give.
Secret32 seed_of(const Options& options);
link::Identity identity_of(const schema::ProtocolInfo& protocol, const Options& options);

/// What became of a message that was handed to the game, as route::Dispatcher reports it.
struct Handled {
  Errc error = Errc::none;
  unsigned faults = 0;
  bool penalized = false;
  bool close = false;
};

class Session {
 public:
  Session(Wire& wire, link::Link link);

  /// Hands a message to the link; with `shared` its bytes are held by reference. Errors:
  /// rate_limited and those of Link::send.
  Errc send(Time now, std::uint32_t peer, const PackedMessage& message,
            const link::SharedBytes& shared = nullptr);
  /// The same for a request, whose outcome goes to `settle` if there is no error.
  Errc request(Time now, std::uint32_t peer, const PackedMessage& request, Duration timeout,
               route::PendingRequests::Settle settle);
  /// The number of the next question. Errors: too_many_requests.
  [[nodiscard]] Result<std::uint16_t> next_request_id() const;
  /// Whether a question of the peer's, whose answer is of kind `answer`, is open.
  [[nodiscard]] bool asks(std::uint16_t answer, std::uint16_t number) const;
  /// Closes such a question: its answer was sent, or none will be. false: it is not open.
  bool take_request_id(std::uint16_t answer, std::uint16_t number);

  /// What an event of the link, or the end of a message's waiting, means to the host.
  class Sink {
   public:
    virtual ~Sink() = default;
    virtual void opened() = 0;
    /// Whether anybody would see a message of this kind.
    [[nodiscard]] virtual bool listens(std::uint16_t type) const = 0;
    virtual Handled message(const route::RawMessage& message, schema::Layout& layout) = 0;
    /// Runs game code on behalf of a message, and reports what it throws. Returns the faults.
    virtual unsigned guard(const route::RawMessage* message, const std::function<void()>& run) = 0;
    virtual void closed(Errc code, std::string_view text) = 0;
    /// What the peer's link::PayloadSource wrote. Errors: why it was of no use.
    virtual Errc filled(std::span<const std::byte> payload, std::size_t bits) = 0;
    [[nodiscard]] virtual std::uint32_t peer() const = 0;
  };
  /// Takes the link's events and the messages held back that may pass now. The end of the
  /// connection is reported once no message waits that arrived before the end.
  void drain(Time now, Sink& sink);
  /// Whether a datagram of the peer may still be read in this tick; see TickBudget::datagrams.
  [[nodiscard]] bool charge_datagram();
  /// Ends the requests whose time is out. To be called after drain(), once all that has arrived was
  /// read: an answer that waits in the socket is in time.
  void expire_requests(Time now, Sink& sink);
  /// Whether the link has ended and drain() has not seen it yet.
  [[nodiscard]] bool end_unreported() const {
    const link::State state = link_.state();
    return (state == link::State::closed || state == link::State::draining) && !end_received_;
  }
  /// Drops the messages that wait: another connection has taken the place of this one.
  void drop_waiting();
  /// Hands a message that came in opaque payload to the game as if it had come by itself: its rate
  /// limit, checks and handlers apply. Errors: closed; rate_limited; those of dispatching. All are
  /// counted.
  Errc take_input(Time now, std::uint16_t type, std::span<const std::byte> fields, std::size_t bits,
                  Sink& sink);
  /// Messages may come, those first that waited; see Options::hold_until_ready.
  void set_ready(Time now);
  /// Ends all questions that the peer was asked.
  void end_requests(Sink& sink);

  /// Sends what the link has to send through `port`, to `to` or where the link says, and begins a
  /// tick of the budget.
  void pump_out(Time now, Transport& transport, const std::optional<Endpoint>& to);
  [[nodiscard]] Time next_wakeup() const;

  link::Link& link() { return link_; }
  [[nodiscard]] const link::Link& link() const { return link_; }

 private:
  struct Held {
    std::uint16_t type;
    std::uint16_t request_id;
    std::vector<std::byte> bytes;  // of the fields
    std::size_t bits;
    std::size_t window_bits;  // what it takes of its channel's window
    Time since;
    bool counted;  // by the rate limit, when it came
  };
  struct Question {
    std::uint16_t type;
    std::uint16_t number;
  };

  struct Ended {
    Errc code;
    std::string text;
  };

  struct KeptPayload {
    std::vector<std::byte> bytes;
    std::size_t bits;
  };

  void on_event(Time now, const link::Event& event, Sink& sink);
  void on_payload(const link::Event& event, Sink& sink);
  void on_message(Time now, const link::Event& event, Sink& sink);
  void keep_payload(const link::Event& event);
  void hand_over_payloads(Sink& sink);
  void release_held(Time now, Sink& sink);
  void finish(Sink& sink);
  void drop_held(Errc why);
  [[nodiscard]] bool within_budget(std::size_t bits) const;
  void deliver(Time now, std::size_t channel, const route::RawMessage& message,
               std::size_t window_bits, Sink& sink);
  Handled hand_over(const route::RawMessage& message, Sink& sink);
  Handled hand_on(const route::RawMessage& message, Sink& sink);
  void judge(Time now, const Handled& done);
  void expel(Time now, std::string_view reason, Errc code);
  [[nodiscard]] bool is_over() const;
  void show(Time now, std::uint32_t peer, bool received, const route::RawMessage& message) const;

  // What each tick needs stands together, for hosts with more sessions than a cache holds.
  Wire* wire_;
  link::Link link_;
  bool ready_;
  unsigned faults_ = 0;
  std::size_t held_count_ = 0;
  Time looked_at_held_{};
  Time tick_end_{};
  std::size_t tick_messages_ = 0;  // taken in this tick
  std::size_t tick_bytes_ = 0;
  std::size_t tick_datagrams_ = 0;
  route::PendingRequests pending_requests_;   // asked here
  std::vector<route::RateLimit> out_limits_;  // by kind
  std::vector<route::RateLimit> in_limits_;   // by kind
  std::vector<std::deque<Held>> held_;        // by channel
  std::deque<KeptPayload> kept_payloads_;     // until ready()
  Time ready_since_{};
  std::optional<Ended> end_waits_{};  // received, but messages wait that came before it
  bool end_received_ = false;
  bool expelled_ = false;
  std::vector<Question> asked_us_;  // asked there, not answered yet
  schema::Layout layout_;
};

}  // namespace kwind::host
