// States, events, timers and ends of a connection, and the public face of all of it.
//
// A connection begins in `greeting` (client) or `opening` (server), is `open` when both ends have
// proved their keys, and ends through `closing` (this end closes) or `draining` (the peer closed)
// in `closed`. link_receive.cpp and link_send.cpp have what happens to datagrams in each of them.
//
// Time is an argument of every call, and never runs backwards within a link: an earlier time counts
// as the latest one (see forward()).
//
// States and their transitions (RFC 9000, 10 has the same last three states):
//   greeting -> open       accept arrived            opening -> open       first data arrived
//   open     -> closing    close() was called        open    -> draining   a close frame arrived
//   closing  -> closed     acknowledged, or late     draining -> closed    its time is over
//   any      -> closed     idle timeout, stream ended, or a rule broken by the peer
#include "kwind/link/link.h"

#include <algorithm>
#include <utility>

#include "kwind/core/prefetch.h"
#include "link/delivery/repeat.h"
#include "link/link_impl.h"

namespace kwind::link {
using kwind::prefetch;

// Two keyed generators: the peer sees the challenges, and must not learn from them which packet
// numbers are left out.
Link::Impl::Impl(Role role, LinkOptions options, TransportKind transport_kind, Time now)
    : LinkHot(role, transport_kind, options, now),
      LinkSending(options, transport_kind),
      options_(std::move(options)),
      skips_(options_.secret, "skipped numbers"),
      challenges_(options_.secret, "path challenges") {
  note_controller();
  skip_at_ = 1 + skips_.next() % kSkipEvery;
}

// A client begins: until the server has agreed there are handshake datagrams and nothing else.
void Link::Impl::greet(ConnectOptions who, Time now) {
  state_ = State::greeting;
  greeting_ = std::make_unique<ClientHandshake>(std::move(who), now);
}

// Both ends have agreed. From here on there are keys, and a version that says which channels
// exist.
void Link::Impl::agree(const Agreed& agreed, Time now) {
  // Everything that the handshake agreed on is copied here: the handshake's own state is freed.
  id_ = agreed.id;
  version_ = agreed.version;
  code_tables_ = agreed.code_tables;
  resumed_ = agreed.resumed;
  reset_ = agreed.reset;
  reset_nonce_ = agreed.reset_nonce;
  if (agreed.resume_for > Duration{0}) {
    resume_ = ResumeToken{agreed.resume, agreed.resume_for};
  }
  const bool client = role_ == Role::client;
  if (const auto* plaintext = std::get_if<CheckKeys>(&agreed.keys)) {
    envelope_.emplace(*plaintext, client);
  } else {
    const AeadKeys& keys = std::get<AeadKeys>(agreed.keys);
    cipher_ = keys.cipher;
    envelope_.emplace(keys, client, KeyLife{options_.key_datagrams, options_.key_time}, now);
    if (options_.key_log) {
      envelope_->log_keys([this](bool up, std::uint64_t phase, std::span<const std::byte> key) {
        options_.key_log({id_, version_, up, phase, static_cast<std::uint8_t>(cipher_), key});
      });
    }
  }
  // Channels that the agreed version lacks do not exist on this connection.
  channels_.agree(version_, transport_kind_);
}

// A datagram that opened shows that the peer lives. One that did not is counted by cause; if its
// error has the verdict `close`, the peer broke a rule, and the connection ends.
Errc Link::Impl::receive(Time now, const Endpoint& from, std::span<const std::byte> datagram) {
  now = forward(now);
  inbox_.reclaim();
  // Counted even if the datagram is a duplicate: an authentic datagram proves that the peer lives.
  const Errc error = accept_datagram(now, from, datagram);
  if (error == Errc::none) {
    ++stats_.datagrams_received;
    stats_.bytes_received += datagram.size();
    last_received_ = now;
    rest_if_idle(now);
  } else {
    stats_.drops.add(error);
    if (error_info(error).verdict == Verdict::close) break_off(now, error_info(error).text, error);
  }
  return error;
}

// Writes at most one datagram; the caller asks again until there is none. The pacer's clock goes on
// even if nothing is sent.
std::size_t Link::Impl::poll_datagram(Time now, std::span<std::byte> out) {
  KWIND_ASSERT(out.size() >= kMaxDatagramBytes);
  now = forward(now);
  if (now > latest_polled_) pacer_.came_by(now - latest_polled_);
  latest_polled_ = now;
  destination_ = path_.active();
  std::size_t size = 0;
  switch (state_) {
    case State::greeting:
      size = greeting_->poll_datagram(now, out);
      overhead_bits_sent_ += size * 8;
      break;
    case State::open:
    case State::closing:
    case State::draining:
      // A reset query goes alone, in plaintext: the peer may have no keys any more.
      if (std::exchange(lost_due_, false)) {
        size = write(Lost{id_, reset_nonce_}, out);
        overhead_bits_sent_ += size * 8;
      } else {
        size = write_data(now, out);
      }
      break;
    case State::opening:
    case State::closed: break;
  }
  if (size > 0) {
    ++datagrams_sent_;
    bytes_sent_ += size;
    last_sent_ = now;
  }
  return size;
}

// The opening comes first, then messages in the order in which they were delivered, and the end
// when all of them were taken.
std::optional<Event> Link::Impl::poll_event() {
  // Invariant: `opened` before all messages, `closed` after all messages, each at most once.
  if (opened_event_) {
    opened_event_ = false;
    return Event{};
  }
  if (const auto message = inbox_.take()) {
    Event event{message->channel == Inbox::kFill ? Event::Kind::payload : Event::Kind::message};
    event.payload = message->payload;
    event.bits = message->bits;
    if (event.kind == Event::Kind::message) {
      event.channel = message->channel;
      ++stats_.messages_received;
      // Flow control: what was handed out opens the window, unless the application does that
      // itself.
      if (!options_.take_in_by_hand) channels_.handed_out(message->channel, message->bits);
    }
    return event;
  }
  if (closed_event_) {
    closed_event_ = false;
    Event event{Event::Kind::closed};
    event.code = end_code_;
    event.text = end_text_;
    return event;
  }
  return std::nullopt;
}

// The earliest of all timers; Time::min() if something can be sent at once. Must not be late: a
// host sleeps until then.
Time Link::Impl::next_wakeup() const {
  switch (state_) {
    case State::closed: return kNever;
    case State::greeting:
      return std::min(greeting_->next_send(), last_received_ + options_.handshake_timeout);
    case State::opening: return last_received_ + options_.handshake_timeout;
    case State::draining: return close_due_ ? Time::min() : std::min(ack_due_, drain_end_);
    case State::open:
    case State::closing: break;
  }
  // Whether something can be sent at once decides first: all timers are later than that.
  const Allowance allowed = allowance(latest_);
  if (lost_due_ || wants_to_send(allowed)) return Time::min();
  Time wake = std::min({ack_due_, loss_deadline(), probe_deadline(), last_received_ + timeout_,
                        keepalive_deadline(), idle_deadline(), lost_deadline()});
  if (state_ == State::closing) {
    wake = linger_starts_ ? Time::min() : std::min(wake, linger_end_);
  }
  // While the ledger is full nothing can be sent; an acknowledgement wakes the link then.
  if (ledger_.has_room()) {
    wake = std::min(wake, channels_.next_repeat(allowed, Repeats::kLatest));
    // Messages that wait for the pacer alone: the time at which the pacer permits the next
    // datagram.
    if (channels_.wants_any()) {
      Allowance unpaced = allowed;
      unpaced.normal = unpaced.bulk = ledger_.bytes_in_flight() < window();
      if (channels_.wants(unpaced)) wake = std::min(wake, pacer_.next(latest_));
    }
  }
  return wake;
}

// Asks for the memory that the next calls will touch, some links ahead: with a thousand links no
// cache holds them all. Each step follows pointers that the step before asked for.
void Link::Impl::prefetch(LinkUse use, unsigned step) const {
  if (step == 0) {
    kwind::prefetch(static_cast<const LinkHot*>(this), sizeof(LinkHot));
    if (use == LinkUse::send) kwind::prefetch(&channels_, sizeof channels_);
    if (use == LinkUse::poll_datagram) {
      kwind::prefetch(static_cast<const LinkSending*>(this), sizeof(LinkSending));
    }
    return;
  }
  if (use == LinkUse::schedule_payload) return;
  channels_.prefetch(use == LinkUse::send, step);
  if (use == LinkUse::send) return;
  if (step == 1) {
    ledger_.prefetch();
    kwind::prefetch(ack_block_.ranges.data(), ack_block_.ranges.size() * sizeof(AckRange));
    if (envelope_) envelope_->prefetch();
  }
  if (payloads_left_ == 0) return;
  if (step == 1) {
    kwind::prefetch(payload_source_.get(), 1);
  } else {
    payload_source_.prefetch(step - 2);
  }
}

// Runs the timers that are due. What they want to send waits for poll_datagram(). Silence is
// judged first: a peer that is gone needs no probes.
void Link::Impl::wake(Time now) {
  now = forward(now);
  switch (state_) {
    case State::closed: return;
    case State::greeting:
      if (now >= last_received_ + options_.handshake_timeout) {
        if (greeting_->busy_received()) {
          return end(Errc::server_busy, error_info(Errc::server_busy).text);
        }
        end(Errc::handshake_timeout, greeting_->cookie_echoed()
                                         ? "the server answered the hello and then no more"
                                         : "no answer to the hello");
      }
      return;
    case State::opening:
      if (now >= last_received_ + options_.handshake_timeout) {
        end(Errc::timeout, "the client did not follow its hello up");
      }
      return;
    case State::draining:
      if (now >= drain_end_) state_ = State::closed;
      return;
    case State::open:
    case State::closing: break;
  }
  // In the order in which they could end the connection, then those that only send.
  if (now >= last_received_ + timeout_) {
    end(Errc::timeout, "nothing came from the peer");
    return;
  }
  if (now >= loss_deadline()) settle(now, ledger_.on_timer(now, rtt_));
  if (now >= probe_deadline()) probe();
  if (now >= std::min(keepalive_deadline(), idle_deadline())) ping_due_ = true;
  if (now >= lost_deadline()) {
    lost_due_ = true;
    lost_sent_at_ = now;
  }
  mtu_.look_again(now);
  if (state_ == State::closing) {
    if (std::exchange(linger_starts_, false)) linger_end_ = now + options_.linger;
    continue_closing(now);
  }
}

// Queues the message. With AtLimit::close a full queue ends the connection: its peer does not keep
// up.
Errc Link::Impl::send(std::size_t channel, std::size_t tag, const Outbound& message) {
  if (state_ != State::open) return Errc::closed;
  const Errc error = channels_.push(channel, tag, message);
  if (error == Errc::queue_full && channels_.specs()[channel].at_limit == AtLimit::close) {
    break_off(latest_, error_info(error).text, error);
  }
  return error;
}

// What window and pace permit now, less what urgent messages have queued already. A stream has
// no pace: TCP has its own.
std::size_t Link::Impl::budget(Time now) const {
  if (state_ != State::open || !ledger_.has_room()) return 0;
  now = std::max(now, latest_);
  // RFC 9002, 7: congestion window less bytes in flight.
  const std::size_t window_bytes = window();
  const std::size_t in_flight = ledger_.bytes_in_flight();
  if (in_flight >= window_bytes) return 0;
  double bytes = static_cast<double>(window_bytes - in_flight);
  if (transport_kind_ == TransportKind::datagrams) bytes = std::min(bytes, pacer_.tick_level(now));
  bytes -= static_cast<double>(channels_.high_bytes());
  return bytes > 0 ? static_cast<std::size_t>(bytes) : 0;
}

void Link::Impl::schedule_payload(PayloadSource* payload_source, std::size_t datagrams) {
  if (state_ != State::open) return;
  payload_source_.set(payload_source);
  payloads_left_ = payload_source == nullptr ? 0 : datagrams;
}

// Reliable messages go first: continue_closing() says the end when they are delivered, or when
// the linger is over.
void Link::Impl::close(Time now, std::string_view reason, Errc code) {
  now = forward(now);
  if (error_info(code).verdict == Verdict::refuse) refusal_ = code;
  if (state_ == State::greeting) {
    end(code, reason);
  } else if (state_ == State::opening) {
    // The client may stand already, and must not wait for someone who is gone.
    end(code, reason);
    send_close(now);
  } else if (state_ == State::open) {
    schedule_payload(nullptr, 0);
    state_ = State::closing;
    end_text_ = reason;
    close_code_ = code;
    linger_starts_ = true;
    continue_closing(now);
  }
}

std::string_view Link::Impl::protection() const {
  if (!envelope_ || !envelope_->encrypted()) return "plaintext";
  return cipher_ == Cipher::aes256_gcm ? "AES-256-GCM" : "ChaCha20-Poly1305";
}

// Gathers what the parts of the link count themselves.
const Stats& Link::Impl::stats() const {
  // Counters of the parts are copied when somebody asks: the parts count in their own cache lines.
  const Channels::Counts& counts = channels_.counts();
  stats_.datagrams_sent = datagrams_sent_;
  stats_.bytes_sent = bytes_sent_;
  stats_.overhead_bits_sent = overhead_bits_sent_;
  stats_.messages_sent = counts.sent;
  stats_.messages_repeated = counts.repeated;
  stats_.redundant_copies = counts.repeated_early;
  stats_.messages_stale = counts.stale;
  stats_.duplicates_received = counts.doubled;
  stats_.messages_recovered = counts.recovered;
  stats_.messages_expired = counts.expired;
  stats_.messages_incomplete = counts.incomplete;
  stats_.smoothed_rtt = rtt_.known() ? rtt_.smoothed() : Duration{0};
  stats_.rtt_variation = rtt_.known() ? rtt_.variation() : Duration{0};
  stats_.min_rtt = rtt_.min();
  stats_.loss = ledger_.loss();
  stats_.queue = controller_.queue();
  stats_.rate = controller_.bandwidth();
  stats_.window = window();
  stats_.in_flight = ledger_.bytes_in_flight();
  stats_.mtu = mtu_.current();
  stats_.key_changes = envelope_ ? envelope_->send_phase() : 0;
  return stats_;
}

// ---- timers and ends ----

// A stream that ended carries nothing more: there is no draining.
void Link::Impl::transport_ended(Time now) {
  now = forward(now);
  if (state_ == State::closed) return;
  if (state_ == State::draining || state_ == State::closing) return nobody_is_there();
  end(Errc::transport_ended, error_info(Errc::transport_ended).text);
}

// Ends a connection whose peer has no state of it any more. A closing connection ends with the code
// of its close; a draining one has reported its end already.
void Link::Impl::nobody_is_there() {
  const bool is_unreported = state_ == State::closing;
  state_ = State::closed;
  if (is_unreported) end(close_code_, std::string(end_text_));
}

// The reason goes to the peer in a close frame, which needs keys: during the handshake there are
// none.
void Link::Impl::break_off(Time now, std::string_view reason, Errc code) {
  now = forward(now);
  if (state_ == State::closed || state_ == State::draining) return;
  if (error_info(code).verdict == Verdict::refuse) refusal_ = code;
  const bool greeting = state_ == State::greeting;
  end(code, reason);
  if (!greeting) send_close(now);  // before there are keys nothing can be sent
}

void Link::Impl::stop_draining() {
  if (state_ == State::draining) nobody_is_there();
}

// Says the end, and once more to what still comes.
void Link::Impl::send_close(Time now) {
  state_ = State::draining;
  drain_end_ = now + kLongestDrain;
  close_due_ = true;
  close_copies_ = 1;
  broken_off_ = true;
}

// Address translation forgets flows that are silent. An ack or a ping that is due does as well.
Time Link::Impl::keepalive_deadline() const {
  return ack_due_ == kNever && !ping_due_ ? last_sent_ + keepalive_ : kNever;
}

// Most of the timeout has passed in silence: a ping asks for an ack, so that a peer with nothing
// to say is not taken for gone.
Time Link::Impl::idle_deadline() const {
  // A stream reports its end by itself.
  if (ping_due_ || transport_kind_ == TransportKind::stream) return kNever;
  return std::max(last_received_ + timeout_ * 6 / 10, last_sent_ + kIdleProbeAfter);
}

// Datagrams were sent and nothing at all came back: a client asks whether its connection is
// still known, at least as late as three probe timeouts.
Time Link::Impl::lost_deadline() const {
  if (lost_due_ || unanswered_since_ == kNever) return kNever;
  const Duration patience = std::max<Duration>(kLostAfter, 3 * rtt_.probe_timeout(ack_delay()));
  return std::max(std::max(last_received_, unanswered_since_) + patience,
                  lost_sent_at_ + kLostEvery);
}

// RFC 9002, 6.1.2: packets that were sent so long before an acknowledged one count as lost then.
// A stream loses none.
Time Link::Impl::loss_deadline() const {
  return transport_kind_ == TransportKind::stream ? kNever : ledger_.loss_deadline();
}

// RFC 9002, 6.2: the probe timeout.
Time Link::Impl::probe_deadline() const {
  if (probe_due_ || transport_kind_ == TransportKind::stream)
    return kNever;  // it waits for poll_datagram
  return ledger_.probe_deadline(rtt_, ack_delay());
}

// The oldest data without an ack goes out once more, in a datagram of the base size: perhaps the
// path takes no larger one any more. State is not sent again, newer state is on its way.
void Link::Impl::probe() {
  ledger_.oldest_refs(probed_);
  const Overloaded again{
      [&](const CloseRef&) { close_again(); },
      [](const MtuProbeRef&) {},
      [](const PayloadRef&) {},
      [&](const auto& of_channel) { channels_.resend(of_channel); },
  };
  // Each reference names what the lost datagram carried: only its channels know whether it is
  // still wanted.
  for (const SentRef& ref : probed_) ref.visit(again);
  path_.challenge_again();
  probe_due_ = true;
  // RFC 8899, 4.3: after several probes without an answer the datagram size falls back.
  if (++silent_probes_ > PathMtu::kSilentProbes) {
    mtu_.back_to_base(latest_);
  }
  ledger_.probe_sent();
}

// The peer may have missed the close; it may also be gone. So there are a few copies and no
// more.
void Link::Impl::close_again() {
  if (close_copies_ >= kMaxCloseCopies || close_acked_) return;
  close_due_ = true;
  ++close_copies_;
}

// Two steps, each with a time limit: deliver what is reliable, then say the end until it is
// acknowledged.
void Link::Impl::continue_closing(Time now) {
  const bool delivered = channels_.reliable_idle();
  const bool late = !linger_starts_ && now >= linger_end_;
  if (!close_sent_ && (delivered || late)) {
    close_sent_ = true;
    close_due_ = true;
    close_copies_ = 1;
    channels_.clear_state();
    linger_starts_ = true;
  } else if (close_sent_ && (close_acked_ || late)) {
    end(close_code_, std::string(end_text_));
  }
}

// Nothing is sent from now on. The event waits until the messages before it were taken.
void Link::Impl::end(Errc code, std::string_view text) {
  state_ = State::closed;
  end_code_ = code;
  end_text_ = std::string(text);
  closed_event_ = true;
  payload_source_.set(nullptr);
  payloads_left_ = 0;
  channels_.clear_state();
}

Link::Link(std::unique_ptr<Impl> impl) : impl_(std::move(impl)) {}
Link::Link(Link&&) noexcept = default;
Link& Link::operator=(Link&&) noexcept = default;
Link::~Link() = default;

Link Link::connect(ConnectOptions who, LinkOptions options, Time now) {
  auto impl = std::make_unique<Impl>(Role::client, std::move(options), who.transport_kind, now);
  impl->greet(std::move(who), now);
  return Link(std::move(impl));
}

Link Link::accept(const Admission& admission, const Endpoint& peer, LinkOptions options, Time now) {
  auto impl = std::make_unique<Impl>(Role::server, std::move(options),
                                     admission.agreed->transport_kind, now);
  impl->agree(*admission.agreed, now);
  impl->set_peer(peer);
  return Link(std::move(impl));
}

Errc Link::receive(Time now, std::span<const std::byte> datagram) {
  return impl_->receive(now, impl_->peer(), datagram);
}
Errc Link::receive_from(Time now, const Endpoint& from, std::span<const std::byte> datagram) {
  return impl_->receive(now, from, datagram);
}
std::size_t Link::poll_datagram(Time now, std::span<std::byte> out) {
  return impl_->poll_datagram(now, out);
}
const Endpoint& Link::destination() const {
  return impl_->destination();
}
const Endpoint& Link::peer() const {
  return impl_->peer();
}
std::optional<Event> Link::poll_event() {
  return impl_->poll_event();
}
Time Link::next_wakeup() const {
  return impl_->next_wakeup();
}
void Link::wake(Time now) {
  impl_->wake(now);
}
Errc Link::send(std::size_t channel, std::size_t tag, std::span<const std::byte> payload,
                std::size_t bits) {
  return impl_->send(channel, tag, {payload, bits});
}
Errc Link::send(std::size_t channel, std::size_t tag, const SharedBytes& payload,
                std::size_t bits) {
  KWIND_ASSERT(payload != nullptr && payload->size() == bits::bytes_for(bits));
  return impl_->send(channel, tag, {*payload, bits, &payload});
}
void Link::consume(std::size_t channel, std::size_t bits) {
  impl_->consume(channel, bits);
}
std::size_t Link::budget(Time now) const {
  return impl_->budget(now);
}
void Link::schedule_payload(PayloadSource* payload_source, std::size_t datagrams) {
  impl_->schedule_payload(payload_source, datagrams);
}
void Link::close(Time now, std::string_view reason, Errc code) {
  impl_->close(now, reason, code);
}
void Link::break_off(Time now, std::string_view reason, Errc code) {
  impl_->break_off(now, reason, code);
}
void Link::stop_draining() {
  impl_->stop_draining();
}
void Link::transport_ended(Time now) {
  impl_->transport_ended(now);
}
State Link::state() const {
  return impl_->state();
}
void LinkAccess::prefetch(const Link& link, LinkUse use, unsigned step) {
  link.impl_->prefetch(use, step);
}
std::uint16_t Link::version() const {
  return impl_->version();
}
std::uint8_t Link::code_tables() const {
  return impl_->code_tables();
}
ConnectionId Link::id() const {
  return impl_->id();
}
std::string_view Link::protection() const {
  return impl_->protection();
}
bool Link::resumed() const {
  return impl_->resumed();
}
bool Link::cookie_echoed() const {
  return impl_->cookie_echoed();
}
std::optional<ResumeToken> Link::resume() const {
  return impl_->resume();
}
const Stats& Link::stats() const {
  return impl_->stats();
}
std::span<const std::uint64_t> Link::bits_sent() const {
  return impl_->bits_sent();
}

}  // namespace kwind::link
