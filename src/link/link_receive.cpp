// What a datagram brings: the handshake's end, then acks and frames, all of which are read before
// any of them takes effect.
#include <algorithm>

#include "link/datagram/data_header.h"
#include "link/link_impl.h"

namespace kwind::link {
namespace {

// A receiver of much data acks more often than its ack delay says, or the sender could not see what
// the path carries.
constexpr std::size_t kAckAfterBytes = 4 * kBaseDatagramBytes;
// A gap is acknowledged at once: the missing packet may hold up later messages.
constexpr Duration kAckAfterGap = std::chrono::milliseconds(5);
// While a message is missing, so many acks go in a round trip: a lost one must not prolong the
// stall.
constexpr int kAcksWhileStalled = 4;
constexpr Duration kMinAckDelay = std::chrono::milliseconds(25);
constexpr Duration kMinPathPatience = std::chrono::seconds(3);

}  // namespace

// A greeting client takes handshake datagrams only; every other state takes data, and a client a
// reset.
Errc Link::Impl::accept_datagram(Time now, const Endpoint& from,
                                 std::span<const std::byte> datagram) {
  if (datagram.empty()) return Errc::truncated;
  switch (state_) {
    case State::closed: return Errc::closed;
    case State::greeting: return on_greeting(now, datagram);
    case State::opening:
    case State::open:
    case State::closing:
    case State::draining: break;
  }
  return is_data(datagram) ? accept_data(now, from, datagram) : on_handshake(datagram);
}

// The server's answer ends the greeting with a refusal or with keys.
Errc Link::Impl::on_greeting(Time now, std::span<const std::byte> datagram) {
  ClientHandshake::Reply reply = greeting_->receive(now, datagram);
  if (reply.error != Errc::none) return reply.error;
  if (reply.rtt) rtt_.sample(*reply.rtt, Duration{0});
  if (reply.refused != Errc::none) {
    end(reply.refused, reply.text);
  } else if (reply.agreed) {
    agree(*reply.agreed, now);
    greeting_.reset();
    state_ = State::open;
    opened_event_ = true;
    ping_due_ = true;  // the server believes in the connection once this arrives
  }
  return Errc::none;
}

// A stateless reset (RFC 9000, 10.3): the server lost the connection's state. The token proves that
// the server said so, and is compared in constant time.
Errc Link::Impl::on_handshake(std::span<const std::byte> datagram) {
  const auto form = form_of(datagram);
  if (!form) return form.error();
  if (*form != Form::reset || role_ != Role::client) return Errc::unexpected;
  const auto token = read_reset(datagram);
  if (!token) return token.error();
  if (!same_secret(*token, reset_)) return Errc::bad_check;
  if (state_ == State::draining || state_ == State::closing) {
    nobody_is_there();
    return Errc::none;
  }
  end(Errc::server_restarted, error_info(Errc::server_restarted).text);
  return Errc::none;
}

// The order of the checks is that of their cost: size, connection id, replay window, and only then
// the AEAD.
Errc Link::Impl::accept_data(Time now, const Endpoint& from, std::span<const std::byte> datagram) {
  if (datagram.size() > kMaxDatagramBytes) return Errc::too_long;
  // Before it is noted as arrived: what is acknowledged is what the program will get.
  if (inbox_.full()) return Errc::inbox_full;
  const auto header = read_data_header(datagram, role_ == Role::server);
  if (!header || datagram.size() < header->bytes + envelope_->tag_bytes()) return Errc::truncated;
  if (role_ == Role::server && header->id != id_) return Errc::unknown_connection;
  // A stream's end does not move; another stream has no business with this connection.
  if (role_ == Role::server && transport_kind_ == TransportKind::stream && from != path_.active()) {
    return Errc::unknown_connection;
  }
  const PacketNumber number{expand(window_.expected(), header->number_low, header->wide ? 16 : 8)};
  if (!window_.is_new(number)) return Errc::replayed;
  std::array<std::byte, kMaxDatagramBytes> memory;  // NOLINT: filled by open()
  const auto body =
      envelope_->open(now, raw(number), header->phase, datagram, header->bytes, memory);
  if (!body) return body.error();

  // From here on the datagram is the peer's own. All of it is read before any of it takes effect.
  if (const Errc error = read_body(*body, header->has_acks, number); error != Errc::none) {
    return error;
  }
  unanswered_since_ = kNever;
  const bool newest = raw(number) >= window_.expected();
  if (newest) newest_wide_ = header->wide;
  if (!ack_block_.ranges.empty()) blocks_received_to_ = raw(number) + 1;
  note_packet(now, number, datagram.size());
  if (role_ == Role::server) {
    const std::uint64_t random = path_.is_news(now, from, newest) ? challenges_.next() : 0;
    path_.on_datagram(now, from, datagram.size(), newest, random,
                      std::max<Duration>(3 * rtt_.probe_timeout(ack_delay()), kMinPathPatience));
  }
  if (broken_off_ && close_copies_ < kMaxCloseCopies) {
    close_due_ = true;
    ++close_copies_;
  }
  if (!ack_block_.ranges.empty()) {
    if (const Errc error = on_acks(now); error != Errc::none) return error;
  }
  if (!frames_.empty() && acks_get_lost(now)) ack_due_ = std::min(ack_due_, now + kAckAfterGap);
  if (state_ == State::opening) {
    state_ = State::open;
    opened_event_ = true;
    // The client answers the welcome at once. A repeated welcome makes this too long; acks mend
    // it.
    if (!rtt_.known()) rtt_.sample(now - last_received_, Duration{0});
  }
  for (const Frame& frame : frames_) {
    if (const Errc error = on_frame(now, from, frame); error != Errc::none) return error;
  }
  return Errc::none;
}

// Fills ack_block_ and frames_ with a decrypted body, and checks what can be checked before any of
// it takes effect.
Errc Link::Impl::read_body(std::span<const std::byte> body, bool has_acks, PacketNumber number) {
  bits::Reader reader(body);
  ack_block_.ranges.clear();
  if (has_acks) {
    const Errc error = read(reader, ledger_.next_number(), newest_narrow_, ack_block_);
    // A newer block has arrived: this one has nothing new, and its numbers may mean others by now.
    const bool overtaken = raw(number) < blocks_received_to_;
    if (error != Errc::none && !(overtaken && error == Errc::bad_ack)) return error;
    if (overtaken) ack_block_.ranges.clear();
  }
  if (const Errc error = read_frames(reader, channels_.specs(), raw(number), frames_);
      error != Errc::none) {
    return error;
  }
  std::size_t schedules = 0;
  for (const Frame& frame : frames_) {
    if (!channels_.in_window(frame)) return Errc::window_exceeded;
    // A sender has one payload source. Who writes more wants them to be read.
    if (frame.kind == FrameKind::payload && ++schedules > 1) return Errc::value_range;
  }
  return Errc::none;
}

// Acks wait for about a round trip, so that most of them travel with data; never longer than the
// option says.
Duration Link::Impl::ack_delay() const {
  return std::clamp<Duration>(rtt_.smoothed(), kMinAckDelay,
                              std::max(options_.ack_delay, kMinAckDelay));
}

// The packet that has come would have shown that an ack reached the peer. Losses come in runs of
// packets: acks a tenth of a second apart would all be lost for as long as a run takes, until the
// peer's window is full of what it does not know to have arrived. One for each packet ends the run.
bool Link::Impl::acks_get_lost(Time now) const {
  const Time unheard = ack_history_.unheard_since();
  return unheard != kNever && now - unheard > rtt_.probe_timeout(ack_delay());
}

// The packet is in the replay window from here on and will be acknowledged. A packet with nothing
// but acks asks for no ack (RFC 9000, 13.2.1).
void Link::Impl::note_packet(Time now, PacketNumber number, std::size_t bytes) {
  const bool gap = raw(number) > window_.expected();
  if (raw(number) >= window_.expected()) newest_at_ = now;
  ack_history_.received(raw(number));
  window_.mark_received(number);
  unacked_packets_ = true;
  if (frames_.empty()) return;
  if (frames_.front().kind != FrameKind::ping) busy_at_ = now;
  unacked_bytes_ += bytes;
  Duration delay = ack_delay();
  if (gap) delay = std::min<Duration>(delay, kAckAfterGap);
  if (channels_.stalled()) {
    delay = std::min(delay, std::max<Duration>(rtt_.smoothed() / kAcksWhileStalled, kAckAfterGap));
  }
  if (unacked_bytes_ >= kAckAfterBytes) delay = Duration{0};
  ack_due_ = std::min(ack_due_, now + delay);
}

// An ack feeds four consumers in this order: the round-trip estimate, the key phases, the entries
// that were noted for each packet, and the congestion controller, which sets the rate of the pacer.
Errc Link::Impl::on_acks(Time now) {
  const SentPackets::Outcome outcome = ledger_.on_ack(now, ack_block_, rtt_);
  if (outcome.error != Errc::none) return outcome.error;
  ack_history_.acked(ack_block_.ranges);
  Duration clean{0};
  if (outcome.newest_acked) {
    rtt_.sample(outcome.rtt, ack_block_.delay);
    clean = std::max<Duration>(outcome.rtt - ack_block_.delay, std::chrono::microseconds(1));
    envelope_->keep_old_keys_for(3 * rtt_.probe_timeout(ack_delay()));
  }
  envelope_->acked(ack_block_.ranges.front().last);
  settle(now, outcome);
  controller_.on_ack(now, outcome, clean, ledger_.delivered(), ledger_.bytes_in_flight());
  note_controller();
  pacer_.set_rate(controller_.rate());
  if (state_ == State::closing) continue_closing(now);
  return Errc::none;
}

// Keeps copies of two values that each turn reads, so that a turn without acks does not touch the
// memory of the controller.
void Link::Impl::note_controller() {
  controller_window_ = controller_.window();
  sees_queue_ = controller_.sees_queue();
}

// Each packet that was acknowledged or lost settles everything that the packet carried.
void Link::Impl::settle(Time now, const SentPackets::Outcome& outcome) {
  stats_.packets_lost += outcome.packets_lost;
  if (outcome.packets_lost > 0) {
    controller_.on_loss(now, outcome.newest_lost_sent_at);
    note_controller();
  }
  const Overloaded acked{
      [&](const CloseRef&) { close_acked_ = true; },
      [&](const MtuProbeRef& probe) { mtu_.probe_acked(probe.number); },
      [&](const PayloadRef& payload) { report_delivery(payload, true); },
      [&](const auto& of_channel) { channels_.acked(of_channel); },
  };
  for (const SentRef& ref : ledger_.acked()) ref.visit(acked);
  if (outcome.bytes_acked > 0) silent_probes_ = 0;
  const bool large_acked = outcome.largest_acked > kBaseDatagramBytes;
  if (large_acked) mtu_.large_acked();
  const Overloaded lost{
      [&](const CloseRef&) { close_again(); },
      [&](const MtuProbeRef& probe) { mtu_.probe_lost(now, probe.number); },
      [&](const PayloadRef& payload) { report_delivery(payload, false); },
      [&](const auto& of_channel) { channels_.lost(of_channel); },
  };
  for (const SentRef& ref : ledger_.lost()) ref.visit(lost);
  if (!large_acked && outcome.large_lost > 0) mtu_.large_lost(now, outcome.large_lost);
}

// A payload source that came after the one that wrote it knows nothing of this token.
void Link::Impl::report_delivery(const PayloadRef& ref, bool acked) {
  if (payload_source_.get() == nullptr || ref.generation != payload_source_.generation()) return;
  payload_source_.get()->on_delivery(ref.token, acked);
}

// Frames take effect in the order in which the peer wrote them.
Errc Link::Impl::on_frame(Time now, const Endpoint& from, const Frame& frame) {
  switch (frame.kind) {
    case FrameKind::ping:
    case FrameKind::padding: return Errc::none;
    case FrameKind::close:
      if (state_ == State::draining || state_ == State::closed) return Errc::none;
      end(close_code(frame), close_reason(frame));
      state_ = State::draining;
      drain_end_ = now + std::min<Duration>(3 * rtt_.probe_timeout(ack_delay()), kLongestDrain);
      ack_due_ = now;
      return Errc::none;
    case FrameKind::challenge: response_due_ = frame.value; return Errc::none;
    case FrameKind::response: on_response(now, from, frame.value); return Errc::none;
    case FrameKind::payload:
      if (state_ == State::open) inbox_.add(Inbox::kFill, frame.payload, frame.bits);
      return Errc::none;
    case FrameKind::window: return channels_.receive(frame, inbox_);
    case FrameKind::message:
    case FrameKind::piece:
    case FrameKind::parity:
      // close() was called: nobody wants messages any more.
      if (state_ != State::open) return Errc::none;
      return on_message(frame);
  }
  return Errc::none;
}

// Messages whose fragments were discarded for want of memory are counted among the drops.
Errc Link::Impl::on_message(const Frame& frame) {
  const std::uint64_t before = channels_.counts().incomplete;
  const Errc error = channels_.receive(frame, inbox_);
  const std::uint64_t discarded = channels_.counts().incomplete - before;
  if (discarded > 0) stats_.drops.add(Errc::incomplete, discarded);
  return error;
}

// Another address may mean another path: measurements of the old path no longer hold (RFC 9000,
// 9.4). A port that changed behind the same address is a new binding of address translation, and
// the path is the same.
void Link::Impl::on_response(Time now, const Endpoint& from, std::uint64_t number) {
  switch (path_.answered(now, from, number)) {
    case Path::Change::none: return;
    case Path::Change::address:
      rtt_ = Rtt();
      controller_.reset();
      note_controller();
      mtu_.reset(now);
      [[fallthrough]];
    case Path::Change::port: ++stats_.path_changes; return;
  }
}

}  // namespace kwind::link
