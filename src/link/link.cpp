// Composes the mechanisms of a connection; each stands in a file of its own.
#include "kwind/link/link.h"

#include <fmt/format.h>

#include <algorithm>
#include <optional>

#include "ack_block.h"
#include "ack_window.h"
#include "agreed.h"
#include "channels.h"
#include "controller.h"
#include "data_header.h"
#include "frames.h"
#include "greeting.h"
#include "inbox.h"
#include "mtu.h"
#include "path.h"
#include "repeat.h"
#include "rtt.h"
#include "sent_ledger.h"

namespace kwind::link {
namespace {

constexpr unsigned kMostCloseCopies = 3;
constexpr Duration kLongestDrain = std::chrono::seconds(1);
// A receiver of much data acks more often than its ack delay says, or the sender could not see what
// the path carries.
constexpr std::size_t kAckAfterBytes = 4 * kBaseDatagramBytes;
// After a gap the sender is told at once: what is missing may hold up what came after it.
constexpr Duration kAckAfterGap = std::chrono::milliseconds(5);
constexpr Duration kLeastAckDelay = std::chrono::milliseconds(25);
// High messages may overdraw the window: by a quarter, and by what a tick's datagrams take.
constexpr std::size_t kOverdraftBytes = 4 * kBaseDatagramBytes;
// What may wait in a stream for its acks: more would be latency that nobody can take back.
constexpr std::size_t kStreamBacklogBytes = std::size_t{128} * 1024;
// One number in about 1500 is left out, see invariant 1 in sent_ledger.h: each costs the peer's
// acks some bits until it is 64 numbers old.
constexpr std::uint64_t kSkipEvery = 1500;
constexpr std::size_t kChallengeBytes = 32;  // no datagram with one, and nothing else, is larger
constexpr std::size_t kPingPaddingBits = 80;
constexpr Duration kLeastPathPatience = std::chrono::seconds(3);

enum class Role : std::uint8_t { client, server };

// SplitMix64 (Steele, Lea and Flood, OOPSLA 2014): for what peers must not guess and cannot see.
class Random {
 public:
  explicit Random(std::uint64_t seed) : state_(seed) {}
  std::uint64_t next() {
    std::uint64_t z = (state_ += 0x9e3779b97f4a7c15U);
    z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9U;
    z = (z ^ (z >> 27)) * 0x94d049bb133111ebU;
    return z ^ (z >> 31);
  }

 private:
  std::uint64_t state_;
};

}  // namespace

class Link::Impl {
 public:
  Impl(Role role, LinkOptions options, Carrier carrier, Time now)
      : role_(role),
        carrier_(carrier),
        options_(std::move(options)),
        channels_(std::move(options_.channels), options_.tags, options_.reassembly_bytes, carrier),
        mtu_(options_.discover_mtu && carrier == Carrier::datagrams),
        random_(options_.seed),
        last_heard_(now),
        last_sent_(now),
        latest_(now) {
    skip_at_ = 1 + random_.next() % kSkipEvery;
  }

  void greet(ConnectOptions who, Time now) {
    state_ = State::greeting;
    greeting_ = std::make_unique<Greeting>(std::move(who), now);
  }
  void agree(const Agreed& agreed, Time now) {
    id_ = agreed.id;
    version_ = agreed.version;
    code_set_ = agreed.code_set;
    returned_ = agreed.returned;
    gone_ = agreed.gone;
    if (agreed.comeback_for > Duration{0}) {
      comeback_ = Comeback{agreed.comeback, agreed.comeback_for};
    }
    const bool client = role_ == Role::client;
    if (const auto* clear = std::get_if<CheckKeys>(&agreed.keys)) {
      envelope_.emplace(*clear, client);
    } else {
      const SealKeys& keys = std::get<SealKeys>(agreed.keys);
      cipher_ = keys.cipher;
      envelope_.emplace(keys, client, KeyLife{options_.key_datagrams, options_.key_time}, now);
      if (options_.key_log) {
        envelope_->log_keys([this](bool up, std::uint64_t phase, std::span<const std::byte> key) {
          options_.key_log(id_, up, phase, static_cast<std::uint8_t>(cipher_), key);
        });
      }
    }
    channels_.agree(version_, carrier_);
  }
  void set_peer(const Endpoint& peer) { path_.set_active(peer); }

  Errc receive(Time now, const Endpoint& from, std::span<const std::byte> datagram) {
    latest_ = now;
    inbox_.reclaim();
    const Errc error = accept_datagram(now, from, datagram);
    if (error == Errc::none) {
      ++stats_.datagrams_received;
      stats_.bytes_received += datagram.size();
      last_heard_ = now;
    } else {
      stats_.drops.add(error);
      if (error_info(error).verdict == Verdict::close) break_off(now, error);
    }
    return error;
  }

  std::size_t poll_datagram(Time now, std::span<std::byte> out) {
    KWIND_ASSERT(out.size() >= kMaxDatagramBytes);
    if (now > latest_polled_) pacer_.came_by(now - latest_polled_);
    latest_ = latest_polled_ = now;
    destination_ = path_.active();
    std::size_t size = 0;
    switch (state_) {
      case State::greeting:
        size = greeting_->poll_datagram(now, out);
        stats_.overhead_bits_sent += size * 8;
        break;
      case State::open:
      case State::closing:
      case State::draining: size = write_data(now, out); break;
      case State::opening:
      case State::closed: break;
    }
    if (size > 0) {
      ++stats_.datagrams_sent;
      stats_.bytes_sent += size;
      last_sent_ = now;
    }
    return size;
  }

  const Endpoint& destination() const { return destination_; }
  const Endpoint& peer() const { return path_.active(); }

  std::optional<Event> poll_event() {
    if (opened_event_) {
      opened_event_ = false;
      return Event{};
    }
    if (next_token_ < tokens_.size()) {
      const auto [token, acked] = tokens_[next_token_++];
      if (next_token_ == tokens_.size()) {
        tokens_.clear();
        next_token_ = 0;
      }
      Event event{acked ? Event::Kind::acked : Event::Kind::lost};
      event.token = token;
      return event;
    }
    if (const auto message = inbox_.take()) {
      Event event{message->channel == Inbox::kFill ? Event::Kind::fill : Event::Kind::message};
      event.payload = message->payload;
      event.bits = message->bits;
      if (event.kind == Event::Kind::message) {
        event.channel = message->channel;
        ++stats_.messages_received;
        channels_.handed_out(message->channel, message->bits);
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

  Time next_wakeup() const {
    switch (state_) {
      case State::closed: return kNever;
      case State::greeting:
        return std::min(greeting_->next_send(), last_heard_ + options_.handshake_timeout);
      case State::opening: return last_heard_ + options_.handshake_timeout;
      case State::draining: return close_due_ ? Time::min() : std::min(ack_due_, drain_end_);
      case State::open:
      case State::closing: break;
    }
    if (wants_to_send(latest_)) return Time::min();
    Time wake = std::min({ack_due_, loss_deadline(), probe_deadline(),
                          last_heard_ + options_.timeout, keepalive_deadline()});
    if (state_ == State::closing) wake = std::min(wake, linger_end_);
    if (ledger_.has_room()) {
      wake = std::min(wake, channels_.next_repeat(allowance(latest_), Repeats::kLatest));
      Allowance unpaced = allowance(latest_);
      unpaced.normal = unpaced.bulk = ledger_.bytes_in_flight() < window();
      if (channels_.wants(unpaced)) wake = std::min(wake, pacer_.next(latest_));
    }
    return wake;
  }

  void wake(Time now) {
    latest_ = now;
    switch (state_) {
      case State::closed: return;
      case State::greeting:
        if (now >= last_heard_ + options_.handshake_timeout) {
          end(Errc::handshake_timeout, greeting_->cookie_heard()
                                           ? "the server answered the hello and then no more"
                                           : "no answer to the hello");
        }
        return;
      case State::opening:
        if (now >= last_heard_ + options_.handshake_timeout) {
          end(Errc::timeout, "the client did not follow its hello up");
        }
        return;
      case State::draining:
        if (now >= drain_end_) state_ = State::closed;
        return;
      case State::open:
      case State::closing: break;
    }
    if (now >= last_heard_ + options_.timeout) {
      end(Errc::timeout, "nothing was heard from the peer");
      return;
    }
    if (now >= loss_deadline()) settle(now, ledger_.on_timer(now, rtt_));
    if (now >= probe_deadline()) probe();
    if (now >= keepalive_deadline()) ping_due_ = true;
    mtu_.look_again(now);
    if (state_ == State::closing) continue_closing(now);
  }

  Errc send(std::size_t channel, std::size_t tag, std::span<const std::byte> payload,
            std::size_t bits) {
    if (state_ != State::open) return Errc::closed;
    const Errc error = channels_.push(channel, tag, payload, bits);
    if (error == Errc::queue_full && channels_.specs()[channel].at_limit == AtLimit::close) {
      break_off(latest_, error);
    }
    return error;
  }

  std::size_t budget(Time now) const {
    if (state_ != State::open || !ledger_.has_room()) return 0;
    const std::size_t window_bytes = window();
    const std::size_t in_flight = ledger_.bytes_in_flight();
    if (in_flight >= window_bytes) return 0;
    double bytes = static_cast<double>(window_bytes - in_flight);
    if (carrier_ == Carrier::datagrams) bytes = std::min(bytes, pacer_.tick_level(now));
    bytes -= static_cast<double>(channels_.high_bytes());
    return bytes > 0 ? static_cast<std::size_t>(bytes) : 0;
  }

  void offer_fill(Filler* filler, std::size_t datagrams) {
    filler_ = datagrams > 0 ? filler : nullptr;
    fills_left_ = datagrams;
  }

  void close(Time now, std::string_view reason) {
    latest_ = now;
    if (state_ == State::greeting || state_ == State::opening) {
      end(Errc::closed_here, reason);
    } else if (state_ == State::open) {
      state_ = State::closing;
      end_text_ = reason;
      linger_end_ = now + options_.linger;
      continue_closing(now);
    }
  }

  State state() const { return state_; }
  std::uint16_t version() const { return version_; }
  std::uint8_t code_set() const { return code_set_; }
  ConnectionId id() const { return id_; }
  bool returned() const { return returned_; }
  bool cookie_heard() const { return !greeting_ || greeting_->cookie_heard(); }
  std::optional<Comeback> comeback() const { return comeback_; }
  std::string_view protection() const {
    if (!envelope_ || !envelope_->sealed()) return "clear";
    return cipher_ == Cipher::aes256_gcm ? "AES-256-GCM" : "ChaCha20-Poly1305";
  }
  const Stats& stats() const {
    const Channels::Counts& counts = channels_.counts();
    stats_.messages_sent = counts.sent;
    stats_.messages_repeated = counts.repeated;
    stats_.messages_repeated_early = counts.repeated_early;
    stats_.messages_stale = counts.stale;
    stats_.messages_doubled = counts.doubled;
    stats_.messages_expired = counts.expired;
    stats_.messages_incomplete = counts.incomplete;
    stats_.smoothed_rtt = rtt_.known() ? rtt_.smoothed() : Duration{0};
    stats_.rtt_variation = rtt_.known() ? rtt_.variation() : Duration{0};
    stats_.least_rtt = rtt_.least();
    stats_.loss = ledger_.loss();
    stats_.queue = controller_.queue();
    stats_.rate = controller_.bandwidth();
    stats_.window = window();
    stats_.in_flight = ledger_.bytes_in_flight();
    stats_.mtu = mtu_.current();
    stats_.key_changes = envelope_ ? envelope_->send_phase() : 0;
    return stats_;
  }
  std::span<const std::uint64_t> bits_sent() const { return channels_.bits_sent(); }

 private:
  // ---- receiving ----

  Errc accept_datagram(Time now, const Endpoint& from, std::span<const std::byte> datagram) {
    if (datagram.empty()) return Errc::truncated;
    switch (state_) {
      case State::closed: return Errc::closed;
      case State::greeting: return hear_greeting(now, datagram);
      case State::opening:
      case State::open:
      case State::closing:
      case State::draining: break;
    }
    return is_data(datagram) ? accept_data(now, from, datagram) : hear_handshake(datagram);
  }

  Errc hear_greeting(Time now, std::span<const std::byte> datagram) {
    Greeting::Reply reply = greeting_->receive(now, datagram);
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

  // Copies of the handshake's datagrams; or a restarted server that does not know the connection.
  Errc hear_handshake(std::span<const std::byte> datagram) {
    const auto form = form_of(datagram);
    if (!form) return form.error();
    if (*form != Form::gone || role_ != Role::client) return Errc::unexpected;
    const auto token = read_gone(datagram);
    if (!token) return token.error();
    if (!bits::same_secret(*token, gone_)) return Errc::bad_check;
    end(Errc::server_restarted, error_info(Errc::server_restarted).text);
    return Errc::none;
  }

  Errc accept_data(Time now, const Endpoint& from, std::span<const std::byte> datagram) {
    if (datagram.size() > kMaxDatagramBytes) return Errc::too_long;
    const auto header = read_data_header(datagram, role_ == Role::server);
    if (!header || datagram.size() < header->bytes + envelope_->tag_bytes()) return Errc::truncated;
    if (role_ == Role::server && header->id != id_) return Errc::unknown_connection;
    const PacketNumber number{
        expand(window_.expected(), header->number_low, header->wide ? 16 : 8)};
    if (!window_.is_new(number)) return Errc::replayed;
    std::array<std::byte, kMaxDatagramBytes> memory;  // NOLINT: filled by open()
    const auto body =
        envelope_->open(now, raw(number), header->phase, datagram, header->bytes, memory);
    if (!body) return body.error();

    // From here on the datagram is the peer's own. All of it is read before any of it takes effect.
    bits::Reader reader(*body);
    ack_block_.ranges.clear();
    if (header->has_acks) {
      const Errc error = read(reader, ledger_.next_number(), ack_block_);
      if (error != Errc::none) return error;
    }
    if (const Errc error = read_frames(reader, channels_.specs(), raw(number), frames_);
        error != Errc::none) {
      return error;
    }
    for (const Frame& frame : frames_) {
      if (!channels_.in_window(frame)) return Errc::window_exceeded;
    }
    const bool newest = raw(number) >= window_.expected();
    note_packet(now, number, datagram.size());
    if (role_ == Role::server) {
      path_.heard(now, from, datagram.size(), newest, random_.next(),
                  std::max<Duration>(3 * rtt_.probe_timeout(ack_delay()), kLeastPathPatience));
    }
    if (broken_off_ && close_copies_ < kMostCloseCopies) {
      close_due_ = true;
      ++close_copies_;
    }
    if (!ack_block_.ranges.empty()) {
      if (const Errc error = hear_acks(now); error != Errc::none) return error;
    }
    if (state_ == State::opening) {
      state_ = State::open;
      opened_event_ = true;
      // The client answers the welcome at once. A repeated welcome makes this too long; acks mend
      // it.
      if (!rtt_.known()) rtt_.sample(now - last_heard_, Duration{0});
    }
    for (const Frame& frame : frames_) {
      if (const Errc error = hear_frame(now, from, frame); error != Errc::none) return error;
    }
    return Errc::none;
  }

  // A round trip: whoever waits for the ack waits for that at least. Both ends know it.
  Duration ack_delay() const {
    return std::clamp<Duration>(rtt_.smoothed(), kLeastAckDelay,
                                std::max(options_.ack_delay, kLeastAckDelay));
  }

  void note_packet(Time now, PacketNumber number, std::size_t bytes) {
    const bool gap = raw(number) > window_.expected();
    if (raw(number) >= window_.expected()) newest_at_ = now;
    window_.mark_received(number);
    unacked_packets_ = true;
    if (frames_.empty()) return;
    unacked_bytes_ += bytes;
    Duration delay = ack_delay();
    if (gap) delay = std::min<Duration>(delay, kAckAfterGap);
    if (unacked_bytes_ >= kAckAfterBytes) delay = Duration{0};
    ack_due_ = std::min(ack_due_, now + delay);
  }

  Errc hear_acks(Time now) {
    const SentLedger::Outcome outcome = ledger_.on_ack(now, ack_block_, rtt_);
    if (outcome.error != Errc::none) return outcome.error;
    Duration clean{0};
    if (outcome.newest_acked) {
      rtt_.sample(outcome.rtt, ack_block_.delay);
      clean = std::max<Duration>(outcome.rtt - ack_block_.delay, std::chrono::microseconds(1));
      envelope_->keep_old_keys_for(3 * rtt_.probe_timeout(ack_delay()));
    }
    envelope_->acked(ack_block_.ranges.front().last);
    settle(now, outcome);
    controller_.on_ack(now, outcome, clean, ledger_.delivered(), ledger_.bytes_in_flight());
    pacer_.set_rate(controller_.rate());
    if (state_ == State::closing) continue_closing(now);
    return Errc::none;
  }

  void settle(Time now, const SentLedger::Outcome& outcome) {
    stats_.packets_lost += outcome.packets_lost;
    if (outcome.packets_lost > 0) controller_.on_loss(now, outcome.newest_lost_sent_at);
    for (const SentRef& ref : ledger_.acked()) {
      switch (ref.kind) {
        case SentRef::Kind::close: close_acked_ = true; break;
        case SentRef::Kind::mtu_probe: mtu_.probe_acked(ref.index); break;
        case SentRef::Kind::token: note_token(ref.index, true); break;
        case SentRef::Kind::reliable:
        case SentRef::Kind::sequenced:
        case SentRef::Kind::window: channels_.acked(ref); break;
      }
    }
    if (outcome.bytes_acked > kBaseDatagramBytes) mtu_.large_acked();
    for (const SentRef& ref : ledger_.lost()) {
      switch (ref.kind) {
        case SentRef::Kind::close: close_again(); break;
        case SentRef::Kind::mtu_probe: mtu_.probe_lost(now); break;
        case SentRef::Kind::token: note_token(ref.index, false); break;
        case SentRef::Kind::reliable:
        case SentRef::Kind::sequenced:
        case SentRef::Kind::window: channels_.lost(ref); break;
      }
    }
    if (outcome.bytes_lost > kBaseDatagramBytes * outcome.packets_lost) mtu_.large_lost(now);
  }

  void note_token(std::uint64_t token, bool acked) {
    // At most one for each packet in flight: bounded by the ledger, if the user drains.
    tokens_.emplace_back(token, acked);
  }

  Errc hear_frame(Time now, const Endpoint& from, const Frame& frame) {
    switch (frame.kind) {
      case FrameKind::ping:
      case FrameKind::padding: return Errc::none;
      case FrameKind::close:
        if (state_ == State::draining || state_ == State::closed) return Errc::none;
        end(Errc::closed_by_peer, close_reason(frame));
        state_ = State::draining;
        drain_end_ = now + std::min<Duration>(3 * rtt_.probe_timeout(ack_delay()), kLongestDrain);
        ack_due_ = now;
        return Errc::none;
      case FrameKind::challenge: response_due_ = frame.value; return Errc::none;
      case FrameKind::response: hear_response(now, from, frame.value); return Errc::none;
      case FrameKind::fill:
        if (state_ == State::open && !inbox_.full()) {
          inbox_.add(Inbox::kFill, frame.payload, frame.bits);
        }
        return Errc::none;
      case FrameKind::window: return channels_.hear(frame, inbox_);
      case FrameKind::message:
      case FrameKind::piece:
        // close() was called: nobody wants messages any more.
        return state_ == State::open ? channels_.hear(frame, inbox_) : Errc::none;
    }
    return Errc::none;
  }

  void hear_response(Time now, const Endpoint& from, std::uint64_t number) {
    switch (path_.answered(now, from, number)) {
      case Path::Change::none: return;
      case Path::Change::address:
        rtt_ = Rtt();
        controller_.reset();
        mtu_.reset(now);
        [[fallthrough]];
      case Path::Change::port: ++stats_.path_changes; return;
    }
  }

  // ---- sending ----

  std::size_t window() const {
    return carrier_ == Carrier::stream ? kStreamBacklogBytes : controller_.window();
  }

  Allowance allowance(Time now) const {
    Allowance allowed;
    if (state_ == State::draining || !ledger_.has_room()) return allowed;
    const std::size_t in_flight = ledger_.bytes_in_flight();
    const std::size_t most = window();
    const bool paced = carrier_ == Carrier::stream || pacer_.ready(now);
    const std::size_t overdraft = controller_.sees_queue() ? 0 : kOverdraftBytes;
    allowed.high = in_flight < most + most / 4 + overdraft || probe_due_;
    allowed.normal = (in_flight < most && paced) || probe_due_;
    allowed.bulk = in_flight < most && paced;
    if (carrier_ == Carrier::datagrams) {
      allowed.copies =
          Repeats::copies(std::max(ledger_.loss(), ledger_.long_loss()), controller_.sees_queue());
      allowed.repeat_gap = Repeats::kEarliest;
    }
    return allowed;
  }

  bool wants_to_send(Time now) const {
    if (!ledger_.has_slot()) return false;
    if (ping_due_ || probe_due_ || close_due_ || response_due_ || channels_.windows_due())
      return true;
    return channels_.wants(allowance(now)) ||
           (filler_ != nullptr && ledger_.bytes_in_flight() < window());
  }

  std::size_t write_data(Time now, std::span<std::byte> out) {
    if (!ledger_.has_slot()) return 0;
    if (state_ == State::open) {
      if (const auto challenge = path_.challenge(now, kChallengeBytes)) {
        return write_challenge(now, *challenge, out);
      }
      if (const std::size_t size = mtu_.probe_due(now);
          size > 0 && ledger_.has_room() && pacer_.ready(now)) {
        return write_mtu_probe(now, size, out);
      }
    }
    channels_.expire(now);
    const Allowance allowed = allowance(now);
    const bool repeats = now >= channels_.next_repeat(allowed, Repeats::kLatest);
    const bool fills = filler_ != nullptr && allowed.high;
    const bool messages = channels_.wants(allowed) || repeats || fills;
    const bool draining = state_ == State::draining;
    const bool windows = !draining && channels_.windows_due();
    const bool asks = messages || windows || close_due_ || response_due_ ||
                      (!draining && (ping_due_ || probe_due_));
    if (!asks && now < ack_due_) return 0;

    ledger_.begin();
    Datagram datagram = begin_datagram(now, out, mtu_.current());
    FrameWriter frames(datagram.writer, channels_.specs(), datagram.number);
    const std::size_t before = datagram.writer.bit_count();
    std::size_t message_bits = 0;
    if (response_due_ && frames.response(*response_due_) > 0) response_due_.reset();
    if (windows) channels_.fill_windows(frames, ledger_);
    if (messages) {
      // Before what is newer: numbers that follow on each other take a bit.
      message_bits += channels_.fill_repeats(frames, now, allowed, ledger_);
      message_bits += channels_.fill_high(frames, now, allowed, ledger_);
      if (fills) write_fill(now, datagram.writer, frames);
      message_bits += channels_.fill_rest(frames, now, allowed, ledger_);
      if (channels_.wants_any()) mtu_.wanted();
    }
    if (close_due_ && frames.close(end_text_) > 0) {
      ledger_.add({SentRef::Kind::close, 0, 0, 0, 0});
      close_due_ = false;
    }
    if (asks && datagram.writer.bit_count() == before) {
      frames.ping();
      // Long enough for a challenge in return, should the client's address have changed.
      if (role_ == Role::client) frames.padding(kPingPaddingBits);
    }
    const bool eliciting = datagram.writer.bit_count() > before;
    if (eliciting) ping_due_ = probe_due_ = false;
    return finish_datagram(now, datagram, out, eliciting, message_bits);
  }

  void write_fill(Time now, bits::Writer& writer, FrameWriter& frames) {
    constexpr std::size_t kFillHeadBits = 40;
    if (writer.room_bits() <= kFillHeadBits) return;
    std::array<std::byte, kMaxDatagramBytes> memory;  // NOLINT: written before it is read
    const std::size_t room = writer.room_bits() - kFillHeadBits;
    bits::Writer fill(std::span<std::byte>(memory).first(room / 8));
    const auto token = filler_->fill(now, fill);
    if (token) {
      fill.finish();
      const std::span<const std::byte> written(memory);
      frames.fill(written, fill.bit_count());
      ledger_.add({SentRef::Kind::token, 0, 0, 0, *token});
    }
    if (!token || --fills_left_ == 0) filler_ = nullptr;
  }

  struct Datagram {
    bits::Writer writer;
    std::uint64_t number;
    std::size_t head_bytes;
  };
  Datagram begin_datagram(Time now, std::span<std::byte> out, std::size_t most,
                          bool with_acks = true) {
    if (ledger_.next_number() >= skip_at_) {
      ledger_.skip();
      skip_at_ = ledger_.next_number() + 1 + random_.next() % (2 * kSkipEvery);
    }
    Datagram datagram{bits::Writer(out.first(most - envelope_->tag_bytes())), ledger_.next_number(),
                      0};
    DataHeader header;
    header.phase = envelope_->next_phase(now, datagram.number);
    header.has_acks = unacked_packets_ && with_acks;
    header.wide = datagram.number - ledger_.after_largest_acked() >= 64;
    header.id = id_;
    header.number_low = datagram.number;
    datagram.head_bytes = write(header, role_ == Role::client, datagram.writer);
    if (header.has_acks) {
      ack_block_.delay = now - newest_at_;
      window_.ranges(kAckSpanPackets, kMostAckRanges, ack_block_.ranges);
      write(ack_block_, datagram.writer);
      unacked_packets_ = false;
      unacked_bytes_ = 0;
      ack_due_ = kNever;
    }
    return datagram;
  }

  std::size_t finish_datagram(Time now, Datagram& datagram, std::span<std::byte> out,
                              bool eliciting, std::size_t message_bits) {
    const std::size_t size = datagram.writer.finish() + envelope_->tag_bytes();
    envelope_->close(datagram.number, out.first(size), datagram.head_bytes);
    const bool app_limited =
        !channels_.wants_any() &&
        ledger_.bytes_in_flight() + size + kBaseDatagramBytes < controller_.window();
    ledger_.sent(now, size, eliciting, app_limited);
    if (eliciting) pacer_.sent(now, size);
    stats_.overhead_bits_sent += size * 8 - message_bits;
    return size;
  }

  std::size_t write_challenge(Time now, const Path::Challenge& challenge,
                              std::span<std::byte> out) {
    ledger_.begin();
    Datagram datagram = begin_datagram(now, out, kBaseDatagramBytes, false);
    FrameWriter frames(datagram.writer, channels_.specs(), datagram.number);
    frames.challenge(challenge.number);
    const std::size_t size = finish_datagram(now, datagram, out, true, 0);
    path_.challenge_sent(size);
    destination_ = challenge.to;
    return size;
  }

  std::size_t write_mtu_probe(Time now, std::size_t size, std::span<std::byte> out) {
    ledger_.begin();
    ledger_.add({SentRef::Kind::mtu_probe, 0, 0, 0, size});
    Datagram datagram = begin_datagram(now, out, size);
    FrameWriter frames(datagram.writer, channels_.specs(), datagram.number);
    frames.padding(out.size() * 8);
    mtu_.probe_sent();
    return finish_datagram(now, datagram, out, true, 0);
  }

  // ---- timers and ends ----

  // The peer broke a rule: the game hears of it at once, the peer by a close for some of what it
  // still sends.
  void break_off(Time now, Errc code) {
    if (state_ == State::closed || state_ == State::draining) return;
    end(code, error_info(code).text);
    state_ = State::draining;
    drain_end_ = now + kLongestDrain;
    close_due_ = true;
    close_copies_ = 1;
    broken_off_ = true;
  }

  // An ack that is about to leave tells the peer as much as a ping, and asks for nothing in return.
  Time keepalive_deadline() const {
    return ack_due_ == kNever && !ping_due_ ? last_sent_ + options_.keepalive : kNever;
  }

  // Over a stream nothing is lost, and what is late is the stream's business.
  Time loss_deadline() const {
    return carrier_ == Carrier::stream ? kNever : ledger_.loss_deadline();
  }
  Time probe_deadline() const {
    if (probe_due_ || carrier_ == Carrier::stream) return kNever;  // it waits for poll_datagram
    return ledger_.probe_deadline(rtt_, ack_delay());
  }

  void probe() {
    ledger_.oldest_refs(probed_);
    for (const SentRef& ref : probed_) {
      switch (ref.kind) {
        case SentRef::Kind::close: close_again(); break;
        case SentRef::Kind::reliable:
        case SentRef::Kind::window: channels_.resend(ref); break;
        case SentRef::Kind::sequenced:
        case SentRef::Kind::token:
        case SentRef::Kind::mtu_probe: break;
      }
    }
    path_.ask_again();
    probe_due_ = true;
    ledger_.probe_sent();
  }

  void close_again() {
    if (close_copies_ >= kMostCloseCopies || close_acked_) return;
    close_due_ = true;
    ++close_copies_;
  }

  void continue_closing(Time now) {
    const bool delivered = channels_.reliable_idle();
    if (!close_sent_ && (delivered || now >= linger_end_)) {
      close_sent_ = true;
      close_due_ = true;
      close_copies_ = 1;
      channels_.clear_state();
      linger_end_ = now + options_.linger;
    } else if (close_sent_ && (close_acked_ || now >= linger_end_)) {
      end(Errc::closed_here, std::string(end_text_));
    }
  }

  void end(Errc code, std::string_view text) {
    state_ = State::closed;
    end_code_ = code;
    end_text_ = std::string(text);
    closed_event_ = true;
    channels_.clear_state();
  }

  const Role role_;
  const Carrier carrier_;
  LinkOptions options_;  // its channels are in channels_
  State state_ = State::opening;
  ConnectionId id_{};
  std::uint16_t version_ = 0;
  std::uint8_t code_set_ = 0;
  bool returned_ = false;
  Cipher cipher_ = Cipher::chacha20_poly1305;
  GoneToken gone_{};
  std::optional<Comeback> comeback_;
  std::optional<Envelope> envelope_;
  std::unique_ptr<Greeting> greeting_;

  Channels channels_;
  Inbox inbox_;
  AckWindow window_;
  SentLedger ledger_;
  Rtt rtt_;
  Controller controller_;
  Pacer pacer_;
  PathMtu mtu_;
  Path path_;
  Random random_;
  std::uint64_t skip_at_ = 0;
  AckBlock ack_block_;           // scratch
  std::vector<Frame> frames_;    // scratch
  std::vector<SentRef> probed_;  // scratch
  Filler* filler_ = nullptr;
  std::size_t fills_left_ = 0;
  std::vector<std::pair<std::uint64_t, bool>> tokens_;
  std::size_t next_token_ = 0;

  mutable Stats stats_;

  Time last_heard_;
  Time last_sent_;
  Time latest_;
  Time latest_polled_{};
  Time newest_at_{};  // when the newest packet arrived
  Endpoint destination_;
  bool unacked_packets_ = false;
  std::size_t unacked_bytes_ = 0;
  Time ack_due_ = kNever;
  bool ping_due_ = false;
  bool probe_due_ = false;
  std::optional<std::uint64_t> response_due_;

  bool opened_event_ = false;
  bool closed_event_ = false;
  bool close_due_ = false;
  bool close_sent_ = false;
  bool close_acked_ = false;
  bool broken_off_ = false;
  unsigned close_copies_ = 0;
  Time linger_end_ = kNever;
  Time drain_end_ = kNever;
  Errc end_code_ = Errc::none;
  std::string end_text_;
};

Link::Link(std::unique_ptr<Impl> impl) : impl_(std::move(impl)) {}
Link::Link(Link&&) noexcept = default;
Link& Link::operator=(Link&&) noexcept = default;
Link::~Link() = default;

Link Link::connect(ConnectOptions who, LinkOptions options, Time now) {
  auto impl = std::make_unique<Impl>(Role::client, std::move(options), who.carrier, now);
  impl->greet(std::move(who), now);
  return Link(std::move(impl));
}

Link Link::accept(const Admission& admission, const Endpoint& peer, LinkOptions options, Time now) {
  auto impl =
      std::make_unique<Impl>(Role::server, std::move(options), admission.agreed->carrier, now);
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
  return impl_->send(channel, tag, payload, bits);
}
std::size_t Link::budget(Time now) const {
  return impl_->budget(now);
}
void Link::offer_fill(Filler* filler, std::size_t datagrams) {
  impl_->offer_fill(filler, datagrams);
}
void Link::close(Time now, std::string_view reason) {
  impl_->close(now, reason);
}
State Link::state() const {
  return impl_->state();
}
std::uint16_t Link::version() const {
  return impl_->version();
}
std::uint8_t Link::code_set() const {
  return impl_->code_set();
}
ConnectionId Link::id() const {
  return impl_->id();
}
std::string_view Link::protection() const {
  return impl_->protection();
}
bool Link::returned() const {
  return impl_->returned();
}
bool Link::cookie_heard() const {
  return impl_->cookie_heard();
}
std::optional<Comeback> Link::comeback() const {
  return impl_->comeback();
}
const Stats& Link::stats() const {
  return impl_->stats();
}
std::span<const std::uint64_t> Link::bits_sent() const {
  return impl_->bits_sent();
}

}  // namespace kwind::link
