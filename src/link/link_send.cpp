// What leaves: who may, in which order datagrams are filled, and what is noted of each.
//
// A link sends when its owner asks for a datagram (poll_datagram). Each turn decides what may
// leave, by congestion window and pacer, then what wants to leave, and writes one datagram of at
// most the size that the path carries. What the datagram holds is noted in `ledger_` before it is
// encrypted.
//
// Messages of high priority may overdraw the congestion window, by a bounded number of bytes: input
// and hits must not wait for a download.
#include <algorithm>

#include "link/datagram/data_header.h"
#include "link/delivery/repeat.h"
#include "link/link_impl.h"

namespace kwind::link {
namespace {

// High messages may overdraw the window: by a quarter, and by what a tick's datagrams take.
constexpr std::size_t kOverdraftBytes = 4 * kBaseDatagramBytes;
constexpr std::size_t kChallengeBytes = 32;  // no datagram with one, and nothing else, is larger
constexpr std::size_t kPingPaddingBits = 80;
constexpr std::size_t kSpareBits = 512;
constexpr Duration kRestAfter = std::chrono::seconds(2);  // nothing but pings: see Envelope::rest

}  // namespace

// The permissions of this turn, by priority. Bulk and normal messages need room in the congestion
// window and a token of the pacer. A probe of a silent path needs neither.
Allowance Link::Impl::allowance(Time now) const {
  Allowance allowed;
  if (state_ == State::draining || !ledger_.has_room()) return allowed;
  const std::size_t in_flight = ledger_.bytes_in_flight();
  const std::size_t max = window();
  const bool paced = transport_kind_ == TransportKind::stream || pacer_.ready(now);
  const std::size_t overdraft = sees_queue_ ? 0 : kOverdraftBytes;
  allowed.high = in_flight < max + max / 4 + overdraft || probe_due_;
  allowed.normal = (in_flight < max && paced) || probe_due_;
  allowed.bulk = in_flight < max && paced;
  if (transport_kind_ == TransportKind::datagrams) {
    const double loss = std::max(ledger_.loss(), ledger_.long_loss());
    allowed.care = Repeats::care(Repeats::assumed(loss, ledger_.settled()), sees_queue_);
    allowed.repeat_gap = Repeats::kEarliest;
  }
  return allowed;
}

// A cheap test that most turns end with: nothing is due and nothing waits.
bool Link::Impl::may_send(Time now) const {
  return ping_due_ || probe_due_ || close_due_ || response_due_ || schedules() || now >= ack_due_ ||
         !channels_.reliable_idle() || channels_.wants_any() || channels_.windows_due();
}

// Something could leave at once; see next_wakeup().
bool Link::Impl::wants_to_send(const Allowance& allowed) const {
  if (!ledger_.has_slot()) return false;
  if (ping_due_ || probe_due_ || close_due_ || response_due_ || channels_.windows_due())
    return true;
  return channels_.wants(allowed) || (schedules() && ledger_.bytes_in_flight() < window());
}

// One datagram. Path challenges and MTU probes have datagrams of their own; everything else is
// gathered in the order: response, windows, redundant copies, high priority, payload source, the
// other channels, close.
std::size_t Link::Impl::write_data(Time now, std::span<std::byte> out) {
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
  if (!may_send(now)) return 0;
  channels_.expire(now);
  const Allowance allowed = allowance(now);
  const bool repeats = now >= channels_.next_repeat(allowed, Repeats::kLatest);
  const bool schedules = this->schedules() && allowed.high;
  const bool has_messages = channels_.wants(allowed) || repeats;
  const bool messages = has_messages || schedules;
  const bool draining = state_ == State::draining;
  const bool windows = !draining && channels_.windows_due();
  const bool asks = has_messages || windows || close_due_ || response_due_ ||
                    (!draining && (ping_due_ || probe_due_));
  const bool acks = now >= ack_due_;
  if (!asks && !schedules && !acks) return 0;

  ledger_.begin();
  // A probe has to arrive, whatever became of the path.
  const std::size_t max = probe_due_ ? kBaseDatagramBytes : mtu_.current();
  Datagram datagram = begin_datagram(now, out, max);
  FrameWriter frames(datagram.writer, channels_.specs(), datagram.number);
  const std::size_t before = datagram.writer.bit_count();
  std::size_t message_bits = 0;
  if (response_due_ && frames.response(*response_due_) > 0) response_due_.reset();
  if (windows) channels_.write_windows(frames, ledger_);
  if (messages) {
    // Before what is newer: numbers that follow on each other take a bit.
    message_bits += channels_.write_repeats(frames, now, allowed, ledger_);
    message_bits += channels_.fill_high(frames, now, allowed, ledger_);
    if (schedules) write_payload(now, datagram.writer, frames);
    message_bits += channels_.write_rest_of_channels(frames, now, allowed, ledger_);
    if (channels_.wants_any()) mtu_.wanted();
  }
  if (close_due_ && frames.close(end_text_, refusal_) > 0) {
    ledger_.add(CloseRef{});
    close_due_ = false;
  }
  if (datagram.writer.bit_count() == before) {
    if (!asks && !acks) return 0;  // whoever was to fill it had nothing to say: it does not leave
    if (asks) frames.ping();
    // Long enough for a challenge in return, should the client's address have changed.
    if (asks && role_ == Role::client) frames.padding(kPingPaddingBits);
  }
  const bool eliciting = datagram.writer.bit_count() > before;
  if (eliciting) ping_due_ = probe_due_ = false;
  return finish_datagram(now, datagram, out, eliciting, message_bits);
}

// The payload source writes into memory of its own, because the length stands before the payload.
void Link::Impl::write_payload(Time now, bits::Writer& writer, FrameWriter& frames) {
  constexpr std::size_t kPayloadHeadBits = 40;
  if (writer.room_bits() <= kPayloadHeadBits) return;
  std::array<std::byte, kMaxDatagramBytes> memory;  // NOLINT: written before it is read
  const std::size_t room = writer.room_bits() - kPayloadHeadBits;
  bits::Writer fill(std::span<std::byte>(memory).first(room / 8));
  const auto token = payload_source_.get()->fill(now, fill);
  if (token) {
    // So much wants to leave that a larger datagram would be of use.
    if (fill.room_bits() < kSpareBits) mtu_.wanted();
    fill.finish();
    const std::span<const std::byte> written(memory);
    frames.fill(written, fill.bit_count());
    ledger_.add(PayloadRef{payload_source_.generation(), *token});
    busy_at_ = now;
  }
  payloads_left_ = token ? payloads_left_ - 1 : 0;
}

// More than a block reaches back over may have arrived since the last one, where the host looks
// seldom: then each block has the next so many, the oldest first. True if it has all.
bool Link::Impl::write_ack_block(Time now) {
  const std::uint64_t largest = raw(window_.largest());
  const std::uint64_t floor = std::min(ack_history_.floor(), largest);
  const std::uint64_t reported = std::max(ack_history_.sent_end(), floor);
  ack_block_.delay = now - newest_at_;
  if (largest + 1 > reported + kAckSpanPackets) {
    ack_block_.wide = true;  // how the packet of that number was numbered is not known any more
    ack_block_.whole = false;
    window_.ranges(reported + kAckSpanPackets - 1, kAckSpanPackets, floor, kMaxAckRanges,
                   ack_block_.ranges);
    if (!ack_block_.ranges.empty()) return false;
  }
  ack_block_.wide = newest_wide_;
  ack_block_.whole = window_.has_newest(kShortRunPackets);
  window_.ranges(largest, kAckSpanPackets, floor, kMaxAckRanges, ack_block_.ranges);
  return true;
}

// Header and ack block. Changes nothing: see Datagram. Now and then a number is left out: a peer
// that acknowledges a number that was never sent guesses acks to make this end send faster
// (RFC 9000, 21.4).
Link::Impl::Datagram Link::Impl::begin_datagram(Time now, std::span<std::byte> out, std::size_t max,
                                                bool with_acks) {
  Datagram datagram{.writer = bits::Writer(out.first(max - envelope_->tag_bytes()))};
  datagram.skips_number = ledger_.next_number() >= skip_at_;
  datagram.number = ledger_.next_number() + (datagram.skips_number ? 1 : 0);
  datagram.wide = datagram.number - ledger_.after_largest_acked() >= kNarrowSpan;
  datagram.has_acks = unacked_packets_ && with_acks;
  DataHeader header;
  header.phase = envelope_->phase_of(now, datagram.number);
  header.has_acks = datagram.has_acks;
  header.wide = datagram.wide;
  header.id = id_;
  header.number_low = datagram.number;
  datagram.head_bytes = write(header, role_ == Role::client, datagram.writer);
  if (datagram.has_acks) {
    datagram.has_all_acks = write_ack_block(now);
    write(ack_block_, datagram.writer);
  }
  return datagram;
}

// Records that a head was sent: its packet number is used up, and its acks need not be sent again.
void Link::Impl::note_sent_head(Time now, const Datagram& datagram) {
  if (datagram.skips_number) {
    ledger_.skip();
    skip_at_ = datagram.number + 1 + skips_.next() % (2 * kSkipEvery);
  }
  if (!datagram.wide) newest_narrow_ = datagram.number;
  if (!datagram.has_acks) return;
  ack_history_.sent(now, datagram.number, ack_block_.ranges.front().last);
  unacked_packets_ = !datagram.has_all_acks;
  unacked_bytes_ = 0;
  ack_due_ = datagram.has_all_acks ? kNever : now;
}

// Encrypts the datagram and notes it as sent. `app_limited` marks packets that left with the window
// not full: their delivery rate says nothing about the path.
std::size_t Link::Impl::finish_datagram(Time now, Datagram& datagram, std::span<std::byte> out,
                                        bool eliciting, std::size_t message_bits) {
  note_sent_head(now, datagram);
  const std::size_t size = datagram.writer.finish() + envelope_->tag_bytes();
  envelope_->close(now, datagram.number, out.first(size), datagram.head_bytes);
  if (message_bits > 0) busy_at_ = now;
  rest_if_idle(now);
  const bool app_limited =
      !channels_.wants_any() &&
      ledger_.bytes_in_flight() + size + kBaseDatagramBytes < controller_window_;
  ledger_.sent(now, size, eliciting, app_limited);
  if (eliciting) pacer_.sent(now, size);
  if (eliciting && role_ == Role::client && transport_kind_ == TransportKind::datagrams) {
    unanswered_since_ = std::min(unanswered_since_, now);
  }
  overhead_bits_sent_ += size * 8 - message_bits;
  return size;
}

// A connection that has sent and received nothing but pings for a while gives its working memory back.
void Link::Impl::rest_if_idle(Time now) {
  if (!envelope_ || now - busy_at_ < kRestAfter) return;
  envelope_->rest();
  std::vector<Frame>().swap(frames_);
  std::vector<AckRange>().swap(ack_block_.ranges);
}

// As large as the address has sent, so that the response shows what the path carries (RFC 9000,
// 8.2.1), and no larger.
std::size_t Link::Impl::write_challenge(Time now, const Path::Challenge& challenge,
                                        std::span<std::byte> out) {
  ledger_.begin();
  const std::size_t max_bytes = std::min(challenge.max_bytes, kBaseDatagramBytes);
  Datagram datagram = begin_datagram(now, out, max_bytes, false);
  FrameWriter frames(datagram.writer, channels_.specs(), datagram.number);
  frames.challenge(challenge.number);
  frames.padding(max_bytes * 8);
  const std::size_t size = finish_datagram(now, datagram, out, true, 0);
  path_.challenge_sent(size);
  destination_ = challenge.to;
  return size;
}

// A datagram of padding (RFC 8899): its loss costs nothing and says that the path takes no such
// size.
std::size_t Link::Impl::write_mtu_probe(Time now, std::size_t size, std::span<std::byte> out) {
  ledger_.begin();
  ledger_.add(MtuProbeRef{mtu_.probe_sent(size)});
  Datagram datagram = begin_datagram(now, out, size);
  FrameWriter frames(datagram.writer, channels_.specs(), datagram.number);
  frames.padding(out.size() * 8);
  return finish_datagram(now, datagram, out, true, 0);
}

}  // namespace kwind::link
