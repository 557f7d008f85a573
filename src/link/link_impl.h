// The inside of a Link: composes the mechanisms, which stand in files of their own. link.cpp holds
// its states, events, timers and ends; link_receive.cpp what a datagram brings; link_send.cpp what
// leaves. One link, one thread.
#pragma once
#include <algorithm>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "kwind/core/prefetch.h"
#include "kwind/link/link.h"
#include "link/datagram/ack_block.h"
#include "link/datagram/envelope.h"
#include "link/datagram/frames.h"
#include "link/delivery/channels.h"
#include "link/delivery/inbox.h"
#include "link/handshake/agreed.h"
#include "link/handshake/client_handshake.h"
#include "link/link_access.h"
#include "link/path/ack_history.h"
#include "link/path/controller.h"
#include "link/path/mtu.h"
#include "link/path/path.h"
#include "link/path/received_packets.h"
#include "link/path/rtt.h"
#include "link/path/sent_packets.h"
#include "link/random.h"

namespace kwind::link {

enum class Role : std::uint8_t { client, server };

/// What each datagram sent needs of a link's own state, together: a host with a thousand links asks
/// for it ahead of time (link_access.h, decision 13).
struct LinkHot {
  LinkHot(Role role, TransportKind transport_kind, const LinkOptions& options, Time now)
      : role_(role),
        transport_kind_(transport_kind),
        timeout_(options.timeout),
        keepalive_(options.keepalive),
        last_received_(now),
        last_sent_(now),
        latest_(now) {}

  const Role role_;
  const TransportKind transport_kind_;
  const Duration timeout_;
  const Duration keepalive_;
  State state_ = State::opening;
  bool unacked_packets_ = false;
  bool ping_due_ = false;
  bool probe_due_ = false;
  bool opened_event_ = false;
  bool closed_event_ = false;
  bool close_due_ = false;
  bool close_sent_ = false;
  bool close_acked_ = false;
  bool broken_off_ = false;
  // From the next wake() on: the last call with a time may be long ago.
  bool linger_starts_ = false;
  std::uint16_t version_ = 0;
  bool sees_queue_ = false;            // as the controller says
  std::size_t controller_window_ = 0;  // likewise
  ConnectionId id_{};
  Time last_received_;
  Time last_sent_;
  Time latest_;
  Time latest_polled_{};
  Time busy_at_{};    // when more than pings came or went
  Time newest_at_{};  // when the newest packet arrived
  Time ack_due_ = kNever;
  std::size_t unacked_bytes_ = 0;
  std::optional<std::uint64_t> response_due_;
  PayloadSlot payload_source_;
  std::size_t payloads_left_ = 0;
  std::uint64_t skip_at_ = 0;
  // Counted into stats_ when somebody asks.
  std::uint64_t datagrams_sent_ = 0;
  std::uint64_t bytes_sent_ = 0;
  std::uint64_t overhead_bits_sent_ = 0;
};
static_assert(sizeof(LinkHot) <= 5 * kCacheLineBytes, "a thousand of these are walked each tick");

/// What a datagram is made from, together for the same reason.
struct LinkSending {
  LinkSending(LinkOptions& options, TransportKind transport_kind)
      : channels_(std::move(options.channels), options.tags, options.reassembly_bytes,
                  transport_kind),
        mtu_(options.discover_mtu && transport_kind == TransportKind::datagrams) {}

  Channels channels_;
  SentPackets ledger_;
  Pacer pacer_;
  PathMtu mtu_;
  Path path_;
  Rtt rtt_;
  Endpoint destination_;
  std::optional<Envelope> envelope_;
  AckBlock ack_block_;  // scratch
  ReceivedPackets window_;
  AckHistory ack_history_;
};

class Link::Impl : private LinkHot, private LinkSending {
 public:
  Impl(Role role, LinkOptions options, TransportKind transport_kind, Time now);
  void greet(ConnectOptions who, Time now);
  void agree(const Agreed& agreed, Time now);
  void set_peer(const Endpoint& peer) { path_.set_active(peer); }

  Errc receive(Time now, const Endpoint& from, std::span<const std::byte> datagram);
  std::size_t poll_datagram(Time now, std::span<std::byte> out);
  const Endpoint& destination() const { return destination_; }
  const Endpoint& peer() const { return path_.active(); }

  std::optional<Event> poll_event();
  Time next_wakeup() const;
  void prefetch(LinkUse use, unsigned step) const;
  void wake(Time now);
  Errc send(std::size_t channel, std::size_t tag, const Outbound& message);
  void consume(std::size_t channel, std::size_t bits) { channels_.handed_out(channel, bits); }
  std::size_t budget(Time now) const;
  void schedule_payload(PayloadSource* payload_source, std::size_t datagrams);
  void close(Time now, std::string_view reason, Errc code);
  // The peer broke a rule: the game gets the event at once, the peer by a close for some of what it
  // still sends.
  void break_off(Time now, std::string_view reason, Errc code);
  void stop_draining();
  void transport_ended(Time now);
  void nobody_is_there();
  State state() const { return state_; }
  std::uint16_t version() const { return version_; }
  std::uint8_t code_tables() const { return code_tables_; }
  ConnectionId id() const { return id_; }
  bool resumed() const { return resumed_; }
  bool cookie_echoed() const { return !greeting_ || greeting_->cookie_echoed(); }
  std::optional<ResumeToken> resume() const { return resume_; }
  std::string_view protection() const;
  const Stats& stats() const;
  std::span<const std::uint64_t> bits_sent() const { return channels_.bits_sent(); }

 private:
  static constexpr unsigned kMaxCloseCopies = 3;
  // What may wait in a stream for its acks: more would be latency that nobody can take back.
  static constexpr std::size_t kStreamBacklogBytes = std::size_t{128} * 1024;
  static constexpr Duration kIdleProbeAfter = std::chrono::milliseconds(400);
  static constexpr Duration kLostAfter = std::chrono::milliseconds(700);
  static constexpr Duration kLostEvery = std::chrono::seconds(1);
  static constexpr Duration kLongestDrain = std::chrono::seconds(1);
  // One number in about 1500 is left out, see invariant 1 in sent_packets.h: each costs the peer's
  // acks some bits until it is 64 numbers old.
  static constexpr std::uint64_t kSkipEvery = 1500;

  // Where a clock jumps back, time stands still for the link until the clock has caught up: timers
  // and estimates rely on it.
  Time forward(Time now) { return latest_ = std::max(latest_, now); }

  // ---- receiving ----

  Errc accept_datagram(Time now, const Endpoint& from, std::span<const std::byte> datagram);
  Errc on_greeting(Time now, std::span<const std::byte> datagram);

  // Repeated datagrams of the handshake; or a restarted server that does not know the
  // connection.
  Errc on_handshake(std::span<const std::byte> datagram);
  Errc accept_data(Time now, const Endpoint& from, std::span<const std::byte> datagram);
  Errc read_body(std::span<const std::byte> body, bool has_acks, PacketNumber number);

  // A round trip: whoever waits for the ack waits for that at least. Both ends know it.
  Duration ack_delay() const;
  bool acks_get_lost(Time now) const;
  void note_packet(Time now, PacketNumber number, std::size_t bytes);
  Errc on_acks(Time now);
  void settle(Time now, const SentPackets::Outcome& outcome);
  // To be called whenever the controller may think otherwise.
  void note_controller();
  void report_delivery(const PayloadRef& ref, bool acked);
  Errc on_frame(Time now, const Endpoint& from, const Frame& frame);
  Errc on_message(const Frame& frame);
  void on_response(Time now, const Endpoint& from, std::uint64_t number);

  // ---- sending ----

  std::size_t window() const {
    return transport_kind_ == TransportKind::stream ? kStreamBacklogBytes : controller_window_;
  }
  Allowance allowance(Time now) const;
  // Whether somebody is to fill what is free in the next datagram.
  bool schedules() const { return payloads_left_ > 0 && payload_source_.get() != nullptr; }
  bool wants_to_send(const Allowance& allowed) const;
  // Whether write_data() may have something to say; false is certain, and quickly found.
  bool may_send(Time now) const;
  std::size_t write_data(Time now, std::span<std::byte> out);
  void write_payload(Time now, bits::Writer& writer, FrameWriter& frames);
  // A datagram that is being written. Until finish_datagram() the link's state is as if it had not
  // been begun: whoever finds nothing to say drops it.
  struct Datagram {
    bits::Writer writer;
    std::uint64_t number = 0;
    std::size_t head_bytes = 0;
    bool skips_number = false;  // the number before is left out
    bool wide = false;
    bool has_acks = false;
    bool has_all_acks = false;  // else the rest goes with the next one
  };
  bool write_ack_block(Time now);
  Datagram begin_datagram(Time now, std::span<std::byte> out, std::size_t max,
                          bool with_acks = true);
  void note_sent_head(Time now, const Datagram& datagram);
  std::size_t finish_datagram(Time now, Datagram& datagram, std::span<std::byte> out,
                              bool eliciting, std::size_t message_bits);
  // Nothing but pings: scratch memory is given back.
  void rest_if_idle(Time now);
  std::size_t write_challenge(Time now, const Path::Challenge& challenge, std::span<std::byte> out);
  std::size_t write_mtu_probe(Time now, std::size_t size, std::span<std::byte> out);

  // ---- timers and ends ----

  void send_close(Time now);

  // An ack that is about to leave shows the peer as much as a ping, and asks for nothing in return.
  Time keepalive_deadline() const;

  // The end is near unless something arrives: a lossy path may have swallowed the few datagrams of
  // an idle link. Seed 1011 of the sweep timed out at 12 % loss for want of it.
  Time idle_deadline() const;
  // Over a stream nothing is lost, and what is late is the stream's business.
  Time loss_deadline() const;
  // The server does not answer: perhaps it was restarted.
  Time lost_deadline() const;
  Time probe_deadline() const;
  void probe();
  void close_again();
  void continue_closing(Time now);
  void end(Errc code, std::string_view text);

  bool newest_wide_ = false;              // the newest packet that came had a wide number
  std::uint64_t newest_narrow_ = 0;       // the newest packet that left without one
  std::uint64_t blocks_received_to_ = 0;  // one beyond the newest datagram whose block arrived

  // The rest is for what arrives and for ends.
  LinkOptions options_;  // its channels are in channels_
  Controller controller_;
  mutable Stats stats_;

  std::vector<Frame> frames_;    // scratch
  std::vector<SentRef> probed_;  // scratch
  Inbox inbox_;
  KeyedRandom skips_;       // which packet numbers are left out: no peer sees these numbers
  KeyedRandom challenges_;  // of paths: the peer sees them
  std::uint8_t code_tables_ = 0;
  bool resumed_ = false;
  Cipher cipher_ = Cipher::chacha20_poly1305;
  ResetToken reset_{};
  std::uint64_t reset_nonce_ = 0;
  bool lost_due_ = false;  // the server is to be asked whether it knows this connection
  Time lost_sent_at_{};    // when it was last
  Time unanswered_since_ =
      kNever;  // client: something was sent that wants an ack, nothing came since
  std::optional<ResumeToken> resume_;
  std::unique_ptr<ClientHandshake> greeting_;
  unsigned close_copies_ = 0;
  unsigned silent_probes_ = 0;  // in a row
  Time linger_end_ = kNever;
  Time drain_end_ = kNever;
  Errc end_code_ = Errc::none;
  Errc close_code_ = Errc::closed_here;
  Errc refusal_ = Errc::none;  // sent to the peer with the close
  std::string end_text_;
};

}  // namespace kwind::link
