// Composes the mechanisms of a connection; each stands in a file of its own.
#include "kwind/link/link.h"

#include <fmt/format.h>

#include <algorithm>
#include <optional>

#include "ack_block.h"
#include "ack_window.h"
#include "frames.h"
#include "greeting.h"
#include "inbox.h"
#include "ordered.h"
#include "outbox.h"
#include "reliable.h"
#include "reliable_sender.h"
#include "rtt.h"
#include "sent_ledger.h"
#include "sequenced.h"

namespace kwind::link {
namespace {

constexpr std::size_t kCheckBytes = 4;
constexpr unsigned kHasAcks = 0x10;
constexpr unsigned kMostCloseCopies = 3;
constexpr Duration kLongestDrain = std::chrono::seconds(1);

enum class Role : std::uint8_t { client, server };

struct Channel {
  explicit Channel(std::size_t queue_messages) : reliable_out(queue_messages) {}
  ReliableSender reliable_out;
  OrderedReceiver ordered_in;
  ReliableReceiver reliable_in;
  SequencedReceiver sequenced_in;
  std::uint16_t next_sequence = 0;
};

}  // namespace

class Link::Impl {
 public:
  Impl(Role role, LinkOptions options, Time now)
      : role_(role),
        options_(std::move(options)),
        outbox_(options_.outbox_bytes),
        bits_sent_(options_.tags),
        last_heard_(now),
        last_sent_(now) {
    KWIND_ASSERT(options_.channels.size() <= kMaxChannels);
    channels_.reserve(options_.channels.size());
    for (std::size_t i = 0; i < options_.channels.size(); ++i) {
      channels_.emplace_back(options_.queue_messages);
    }
  }

  void greet(Identity identity, std::uint64_t nonce, Time now) {
    state_ = State::greeting;
    greeting_.emplace(std::move(identity), nonce, now);
  }
  void admit(const Admission& admission) {
    const CheckKeys keys =
        make_check_keys(admission.client_nonce, admission.server_nonce, admission.id);
    send_key_ = role_ == Role::client ? keys.up : keys.down;
    receive_key_ = role_ == Role::client ? keys.down : keys.up;
    id_ = admission.id;
    version_ = admission.version;
    // How many channels there are decides how many bits their numbers take.
    std::erase_if(options_.channels,
                  [&](const ChannelSpec& spec) { return spec.since > version_; });
  }

  Errc receive(Time now, std::span<const std::byte> datagram) {
    inbox_.reclaim();
    const Errc error = accept_datagram(now, datagram);
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

  std::optional<Event> poll_event() {
    if (opened_event_) {
      opened_event_ = false;
      return Event{};
    }
    if (const auto message = inbox_.take()) {
      ++stats_.messages_received;
      return Event{Event::Kind::message, message->channel, message->payload,
                   message->bits,        Errc::none,       {}};
    }
    if (closed_event_) {
      closed_event_ = false;
      return Event{Event::Kind::closed, 0, {}, 0, end_code_, end_text_};
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
    if (wants_to_send_now()) return Time::min();
    Time wake = std::min({ack_due_, ledger_.loss_deadline(), probe_deadline(),
                          last_heard_ + options_.timeout, keepalive_deadline()});
    if (state_ == State::closing) wake = std::min(wake, linger_end_);
    return wake;
  }

  void wake(Time now) {
    switch (state_) {
      case State::closed: return;
      case State::greeting:
        if (now >= last_heard_ + options_.handshake_timeout) {
          end(Errc::handshake_timeout, "no answer to the hello");
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
    if (now >= ledger_.loss_deadline()) settle(ledger_.on_timer(now, rtt_));
    if (now >= probe_deadline()) probe();
    if (now >= keepalive_deadline()) ping_due_ = true;
    if (state_ == State::closing) continue_closing(now);
  }

  Errc send(std::size_t channel, std::size_t tag, std::span<const std::byte> payload,
            std::size_t bits) {
    KWIND_ASSERT(channel < channels_.size() && tag < bits_sent_.size());
    KWIND_ASSERT(bits <= payload.size() * 8);
    if (state_ != State::open) return Errc::closed;
    if (bits > kMaxMessageBytes * 8) return Errc::message_too_large;
    if (is_reliable(options_.channels[channel].delivery)) {
      const Errc error = channels_[channel].reliable_out.push(tag, payload, bits);
      if (error != Errc::none) return error;
    } else {
      stats_.messages_expired +=
          outbox_.push(static_cast<std::uint8_t>(channel), tag, payload, bits);
    }
    ++stats_.messages_sent;
    return Errc::none;
  }

  void close(Time now, std::string_view reason) {
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
  const Stats& stats() const { return stats_; }
  std::span<const std::uint64_t> bits_sent() const { return bits_sent_; }

 private:
  // ---- receiving ----

  Errc accept_datagram(Time now, std::span<const std::byte> datagram) {
    const auto form = form_of(datagram);
    if (!form) return form.error();
    switch (state_) {
      case State::closed: return Errc::closed;
      case State::greeting: return hear_greeting(now, datagram);
      case State::opening:
      case State::open:
      case State::closing:
      case State::draining: break;
    }
    if (*form != Form::data) return Errc::unexpected;
    return accept_data(now, datagram);
  }

  Errc hear_greeting(Time now, std::span<const std::byte> datagram) {
    Greeting::Answer answer = greeting_->receive(now, datagram);
    if (answer.error != Errc::none) return answer.error;
    if (answer.rtt) sample_rtt(*answer.rtt, Duration{0});
    if (answer.refused != Errc::none) {
      end(answer.refused, answer.text);
    } else if (answer.welcome) {
      admit(*answer.welcome);
      greeting_.reset();
      state_ = State::open;
      opened_event_ = true;
      ping_due_ = true;  // the server believes in the connection once this arrives
    }
    return Errc::none;
  }

  Errc accept_data(Time now, std::span<const std::byte> datagram) {
    const std::size_t head_bytes = role_ == Role::server ? 7 : 3;
    if (datagram.size() < head_bytes + kCheckBytes) return Errc::truncated;
    if (datagram.size() > kMaxDatagramBytes) return Errc::too_long;
    if (inbox_.full()) return Errc::queue_full;
    const auto body = datagram.first(datagram.size() - kCheckBytes);
    bits::Reader reader(body);
    const std::uint64_t flags = reader.get(8);
    if ((flags & ~std::uint64_t{kHasAcks}) != static_cast<std::uint64_t>(Form::data)) {
      return Errc::unknown_form;
    }
    if (role_ == Role::server && reader.get(32) != static_cast<std::uint32_t>(id_)) {
      return Errc::unknown_connection;
    }
    const PacketNumber number{expand16(window_.expected(), reader.get(16))};
    bits::Reader check(datagram.last(kCheckBytes));
    if (check.get(32) != bits::keyed_check(receive_key_, body, raw(number))) return Errc::bad_check;
    if (!window_.is_new(number)) return Errc::replayed;

    // From here on the datagram is the peer's own. All of it is read before any of it takes effect.
    ack_block_.ranges.clear();
    if ((flags & kHasAcks) != 0) {
      const Errc error = read(reader, ledger_.next_number(), ack_block_);
      if (error != Errc::none) return error;
    }
    if (const Errc error = read_frames(reader, options_.channels, frames_); error != Errc::none) {
      return error;
    }
    for (const Frame& frame : frames_) {
      if (frame.kind == FrameKind::message && !in_window(frame)) return Errc::window_exceeded;
    }
    note_packet(now, number);
    if (broken_off_ && close_copies_ < kMostCloseCopies) {
      close_due_ = true;
      ++close_copies_;
    }
    if (!ack_block_.ranges.empty()) hear_acks(now);
    if (state_ == State::opening) {
      state_ = State::open;
      opened_event_ = true;
      // The client answers the welcome at once. A repeated welcome makes this too long; acks mend
      // it.
      if (!rtt_.known()) sample_rtt(now - last_heard_, Duration{0});
    }
    for (const Frame& frame : frames_) hear_frame(now, frame);
    return Errc::none;
  }

  void note_packet(Time now, PacketNumber number) {
    if (raw(number) >= window_.expected()) newest_at_ = now;
    window_.mark_received(number);
    unacked_packets_ = true;
    if (!frames_.empty()) ack_due_ = std::min(ack_due_, now + options_.ack_delay);
  }

  void hear_acks(Time now) {
    const SentLedger::Outcome outcome = ledger_.on_ack(now, ack_block_, rtt_);
    if (outcome.newest_acked) sample_rtt(outcome.rtt, ack_block_.delay);
    settle(outcome);
    if (state_ == State::closing) continue_closing(now);
  }

  void settle(const SentLedger::Outcome& outcome) {
    stats_.packets_lost += outcome.packets_lost;
    for (const ReliableRef& ref : outcome.acked) {
      if (ref.channel == kCloseRef) {
        close_acked_ = true;
      } else {
        channels_[ref.channel].reliable_out.acked(ref.index);
      }
    }
    for (const ReliableRef& ref : outcome.lost) {
      if (ref.channel != kCloseRef) channels_[ref.channel].reliable_out.lost(ref.index);
    }
  }

  void sample_rtt(Duration latest, Duration ack_delay) {
    rtt_.sample(latest, ack_delay);
    stats_.smoothed_rtt = rtt_.smoothed();
    stats_.rtt_variation = rtt_.variation();
    stats_.least_rtt = rtt_.least();
  }

  void hear_frame(Time now, const Frame& frame) {
    switch (frame.kind) {
      case FrameKind::end:
      case FrameKind::ping: return;
      case FrameKind::close:
        if (state_ == State::draining || state_ == State::closed) return;
        end(Errc::closed_by_peer, close_reason(frame));
        state_ = State::draining;
        drain_end_ =
            now + std::min<Duration>(3 * rtt_.probe_timeout(options_.ack_delay), kLongestDrain);
        ack_due_ = now;
        return;
      case FrameKind::message: hear_message(frame); return;
    }
  }

  // Whether an honest sender may use the message's number now.
  bool in_window(const Frame& frame) const {
    const Channel& channel = channels_[frame.channel];
    switch (options_.channels[frame.channel].delivery) {
      case Delivery::unreliable:
      case Delivery::sequenced: return true;
      case Delivery::reliable: return channel.reliable_in.in_window(frame.number);
      case Delivery::ordered: return channel.ordered_in.in_window(frame.number);
    }
    return false;
  }

  void hear_message(const Frame& frame) {
    if (state_ != State::open) return;  // close() was called: nobody wants messages any more
    Channel& channel = channels_[frame.channel];
    switch (options_.channels[frame.channel].delivery) {
      case Delivery::unreliable: break;
      case Delivery::sequenced:
        if (!channel.sequenced_in.accept(frame.number)) {
          ++stats_.messages_stale;
          return;
        }
        break;
      case Delivery::reliable:
        if (!channel.reliable_in.accept(frame.number)) {
          ++stats_.messages_doubled;
          return;
        }
        break;
      case Delivery::ordered:
        if (channel.ordered_in.receive(frame.number, frame.payload, frame.bits, frame.channel,
                                       inbox_) == OrderedReceiver::Taken::doubled) {
          ++stats_.messages_doubled;
        }
        return;
    }
    inbox_.add(frame.channel, frame.payload, frame.bits);
  }

  // ---- sending ----

  bool has_messages() const {
    if (!outbox_.empty()) return true;
    return std::any_of(channels_.begin(), channels_.end(),
                       [](const Channel& c) { return c.reliable_out.peek().has_value(); });
  }
  bool wants_to_send_now() const {
    return ledger_.has_slot() &&
           (ping_due_ || probe_due_ || close_due_ || (has_messages() && ledger_.has_room()));
  }

  std::size_t write_data(Time now, std::span<std::byte> out) {
    if (!ledger_.has_slot()) return 0;
    const bool draining = state_ == State::draining;
    const bool messages = !draining && has_messages() && (ledger_.has_room() || probe_due_);
    const bool asks = messages || close_due_ || (!draining && (ping_due_ || probe_due_));
    if (!asks && now < ack_due_) return 0;

    ledger_.begin();
    const std::uint64_t number = ledger_.next_number();
    bits::Writer writer(out.first(kMaxDatagramBytes - kCheckBytes));
    writer.put(static_cast<std::uint64_t>(Form::data) | (unacked_packets_ ? kHasAcks : 0U), 8);
    if (role_ == Role::client) writer.put(static_cast<std::uint32_t>(id_), 32);
    writer.put(number, 16);
    if (unacked_packets_) {
      ack_block_.delay = now - newest_at_;
      window_.ranges(kAckSpanPackets, kMostAckRanges, ack_block_.ranges);
      write(ack_block_, writer);
      unacked_packets_ = false;
    }
    ack_due_ = kNever;
    std::size_t message_bits = 0;
    bool any_frame = false;
    if (messages) {
      message_bits = fill(writer);
      any_frame = message_bits > 0;
    }
    if (close_due_ && writer.room_bits() >= 16 + 8 * kMostReasonBytes) {
      write_close(writer, end_text_);
      ledger_.add_reliable({kCloseRef, 0});
      close_due_ = false;
      any_frame = true;
    } else if (asks && !any_frame) {
      write_ping(writer);
      any_frame = true;
    }
    if (any_frame) ping_due_ = probe_due_ = false;

    const std::size_t size = writer.finish();
    bits::Writer check(out.subspan(size, kCheckBytes));
    check.put(bits::keyed_check(send_key_, out.first(size), number), 32);
    check.finish();
    ledger_.sent(now, any_frame);
    stats_.overhead_bits_sent += (size + kCheckBytes) * 8 - message_bits;
    return size + kCheckBytes;
  }

  // Puts messages into the datagram, state first, as many as fit; returns the bits they took.
  std::size_t fill(bits::Writer& writer) {
    std::array<std::size_t, kMaxChannels> count{};  // see invariant 2 in reliable_sender.h
    const std::size_t before = writer.bit_count();
    while (!outbox_.empty()) {
      const Outbox::Entry entry = outbox_.front();
      Channel& channel = channels_[entry.channel];
      const std::size_t bits =
          message_head_bits(options_.channels, entry.channel, entry.bits) + entry.bits;
      if (bits > writer.room_bits() || count[entry.channel] == kMostPerDatagram) break;
      write_message(writer, options_.channels, entry.channel, channel.next_sequence,
                    outbox_.payload(entry), entry.bits);
      if (options_.channels[entry.channel].delivery == Delivery::sequenced) ++channel.next_sequence;
      bits_sent_[entry.tag] += bits;
      ++count[entry.channel];
      outbox_.pop();
    }
    for (std::size_t i = 0; i < channels_.size(); ++i) {
      ReliableSender& sender = channels_[i].reliable_out;
      while (const auto next = sender.peek()) {
        const std::size_t bits = message_head_bits(options_.channels, i, next->bits) + next->bits;
        if (bits > writer.room_bits() || count[i] == kMostPerDatagram) break;
        write_message(writer, options_.channels, i, static_cast<std::uint16_t>(next->index),
                      next->payload, next->bits);
        bits_sent_[next->tag] += bits;
        if (next->repeated) ++stats_.messages_repeated;
        ++count[i];
        ledger_.add_reliable({static_cast<std::uint8_t>(i), next->index});
        sender.sent(next->index);
      }
    }
    return writer.bit_count() - before;
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

  Time probe_deadline() const {
    if (probe_due_) return kNever;  // it waits for poll_datagram
    return ledger_.probe_deadline(rtt_, options_.ack_delay);
  }

  void probe() {
    for (const ReliableRef& ref : ledger_.oldest_reliable()) {
      if (ref.channel == kCloseRef) {
        close_due_ = close_copies_ < kMostCloseCopies;
        ++close_copies_;
      } else {
        channels_[ref.channel].reliable_out.lost(ref.index);
      }
    }
    probe_due_ = true;
    ledger_.probe_sent();
  }

  void continue_closing(Time now) {
    const bool delivered = std::all_of(channels_.begin(), channels_.end(),
                                       [](const Channel& c) { return c.reliable_out.idle(); });
    if (!close_sent_ && (delivered || now >= linger_end_)) {
      close_sent_ = true;
      close_due_ = true;
      close_copies_ = 1;
      outbox_.clear();
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
    outbox_.clear();
  }

  static constexpr std::uint8_t kCloseRef = 0xff;  // in place of a channel: the packet held a close

  const Role role_;
  LinkOptions options_;
  State state_ = State::opening;
  ConnectionId id_{};
  std::uint16_t version_ = 0;
  bits::Key128 send_key_{};
  bits::Key128 receive_key_{};
  std::optional<Greeting> greeting_;

  std::vector<Channel> channels_;
  Outbox outbox_;
  Inbox inbox_;
  AckWindow window_;
  SentLedger ledger_;
  Rtt rtt_;
  AckBlock ack_block_;         // scratch
  std::vector<Frame> frames_;  // scratch

  Stats stats_;
  std::vector<std::uint64_t> bits_sent_;

  Time last_heard_;
  Time last_sent_;
  Time newest_at_{};  // when the newest packet arrived
  bool unacked_packets_ = false;
  Time ack_due_ = kNever;
  bool ping_due_ = false;
  bool probe_due_ = false;

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

Link Link::connect(Identity identity, std::uint64_t nonce, LinkOptions options, Time now) {
  auto impl = std::make_unique<Impl>(Role::client, std::move(options), now);
  impl->greet(std::move(identity), nonce, now);
  return Link(std::move(impl));
}

Link Link::accept(const Admission& admission, LinkOptions options, Time now) {
  auto impl = std::make_unique<Impl>(Role::server, std::move(options), now);
  impl->admit(admission);
  return Link(std::move(impl));
}

Errc Link::receive(Time now, std::span<const std::byte> datagram) {
  return impl_->receive(now, datagram);
}
std::size_t Link::poll_datagram(Time now, std::span<std::byte> out) {
  return impl_->poll_datagram(now, out);
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
void Link::close(Time now, std::string_view reason) {
  impl_->close(now, reason);
}
State Link::state() const {
  return impl_->state();
}
std::uint16_t Link::version() const {
  return impl_->version();
}
const Stats& Link::stats() const {
  return impl_->stats();
}
std::span<const std::uint64_t> Link::bits_sent() const {
  return impl_->bits_sent();
}

}  // namespace kwind::link
