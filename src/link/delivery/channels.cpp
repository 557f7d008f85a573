// The channels of a link: priorities of what is sent, and the delivery of what arrives.
//
// A channel has one of three priorities: high, normal, bulk. A datagram is filled in this order:
// copies and parities, high, then the payload source of the link, normal, bulk. Channels of one
// priority take turns in going first.
//
// Sets of channels are kept as bits of a word (channels with something unsent, with something in
// flight, with a window to announce), so that a turn costs what it sends, whatever the number of
// channels.
#include "link/delivery/channels.h"

#include <algorithm>
#include <bit>

#include "kwind/core/prefetch.h"

namespace kwind::link {
namespace {

// Redundant copies leave two thirds of a datagram to new messages.
constexpr std::size_t kRoomKeptBits = kBaseDatagramBytes * 8 * 2 / 3;
// Beyond two ticks of 60 a second no other is coming.
constexpr Duration kParityPatience = std::chrono::milliseconds(25);

}  // namespace

// A channel has either a reliable sender and receiver or an unreliable sender, never both. What
// it needs to receive unreliable messages is small and stands in Channel itself.
Channels::Channels(std::vector<ChannelSpec> specs, std::size_t tags, std::size_t reassembly_bytes,
                   TransportKind transport_kind)
    : transport_kind_(transport_kind),
      channels_(specs.size()),
      specs_(std::move(specs)),
      reassembly_bytes_(reassembly_bytes),
      bits_sent_(tags) {
  KWIND_ASSERT(specs_.size() <= kMaxChannels);
  for (std::size_t i = 0; i < specs_.size(); ++i) {
    const ChannelSpec& spec = specs_[i];
    KWIND_ASSERT(spec.repeat >= 1 && spec.repeat <= 8);
    if (is_reliable(spec.delivery)) {
      channels_[i].reliable_out = std::make_unique<ReliableSender>();
      channels_[i].reliable_in = std::make_unique<ReliableReceiver>(
          spec.delivery == Delivery::ordered, std::max(spec.window_bytes, kFirstWindowBytes));
    } else {
      channels_[i].state_out = std::make_unique<UnreliableSender>();
    }
  }
  sort_by_rank();
}

// A version may lack channels that this end knows: they go, and with them their numbers, so that
// both ends count alike.
void Channels::agree(std::uint16_t version, TransportKind transport_kind) {
  std::erase_if(specs_, [&](const ChannelSpec& spec) { return spec.since > version; });
  channels_.resize(specs_.size());
  transport_kind_ = transport_kind;
  sort_by_rank();
}

// Calls visit() for each channel of a set of at most 32, the lowest first.
template <class Visit>
void Channels::each(unsigned set, const Visit& visit) {
  for (; set != 0; set &= set - 1) {
    visit(static_cast<std::size_t>(std::countr_zero(set)));
  }
}

// Sets of channels as bits: a turn looks at those alone that have something, whatever the number
// of channels.
void Channels::sort_by_rank() {
  of_rank_ = {};
  windows_ = 0;
  for (std::size_t i = 0; i < specs_.size(); ++i) {
    put(of_rank_[static_cast<std::size_t>(rank(specs_[i]))], i, true);
    if (channels_[i].reliable_in) note_in(i);
  }
}

// Keeps the sets true after anything that a channel has to send has changed.
void Channels::note_out(std::size_t channel) {
  const Channel& each = channels_[channel];
  if (each.state_out) {
    put(unsent_, channel, !each.state_out->empty());
    put(recent_, channel, !each.state_out->recent().empty());
  } else {
    put(unsent_, channel, each.reliable_out->something_unsent());
    put(busy_, channel, !each.reliable_out->idle());
  }
}

// Keeps the set of channels that owe the peer a receive window.
void Channels::note_in(std::size_t channel) {
  const Channel& each = channels_[channel];
  put(windows_, channel, each.window_again || each.reliable_in->should_advertise());
}

// Unreliable messages are urgent unless they are bulk: late they are worth nothing.
Priority Channels::rank(const ChannelSpec& spec) {
  if (is_reliable(spec.delivery) || spec.priority == Priority::bulk) return spec.priority;
  return Priority::high;
}

// ---- sending ----

// Reliable channels refuse when their queue is full; others drop the oldest, which is worth the
// least.
Errc Channels::push(std::size_t channel, std::size_t tag, const Outbound& message) {
  const std::size_t bits = message.bits;
  KWIND_ASSERT(channel < specs_.size() && tag < bits_sent_.size() &&
               bits <= message.payload.size() * 8);
  const ChannelSpec& spec = specs_[channel];
  const bool splits = is_reliable(spec.delivery) || spec.split;
  if (bits > (splits ? kMaxMessageBytes : kMaxWholeBytes) * 8) return Errc::message_too_large;
  if (is_reliable(spec.delivery)) {
    const auto pushed = channels_[channel].reliable_out->push(spec, tag, message);
    counts_.expired += pushed.discarded;
    if (!pushed.taken) {
      note_out(channel);
      return Errc::queue_full;
    }
  } else {
    counts_.expired += channels_[channel].state_out->push(spec, tag, message);
  }
  note_out(channel);
  ++counts_.sent;
  return Errc::none;
}

// The steps follow the pointers: first the tables, then the senders, then what these hold.
void Channels::prefetch(bool sends, unsigned step) const {
  if (step == 1) {
    kwind::prefetch(channels_.data(), channels_.size() * sizeof(Channel));
    kwind::prefetch(specs_.data(), specs_.size() * sizeof(ChannelSpec));
    if (!sends) kwind::prefetch(bits_sent_.data(), 1);
    return;
  }
  // Whoever sends may do so on any channel, but mostly it is one of state.
  for (std::size_t i = 0; i < channels_.size(); ++i) {
    const Channel& channel = channels_[i];
    if (!sends && (unsent_ & one(i)) == 0) continue;
    if (step == 2) {
      if (channel.state_out) kwind::prefetch(channel.state_out.get(), sizeof(UnreliableSender));
      if (channel.reliable_out) kwind::prefetch(channel.reliable_out.get(), sizeof(ReliableSender));
    } else {
      if (channel.state_out) channel.state_out->prefetch(sends);
      if (channel.reliable_out) channel.reliable_out->prefetch(sends);
    }
  }
}

// Unreliable messages that waited longer than their channel permits are not sent at all.
void Channels::expire(Time now) {
  each(unsent_, [&](std::size_t i) {
    if (!channels_[i].state_out) return;
    const std::size_t discarded = channels_[i].state_out->expire(now, specs_[i].expiry);
    if (discarded == 0) return;
    counts_.expired += discarded;
    note_out(i);
  });
}

// When the next redundant copy of a reliable message is due. Where the path loses nothing there
// are none.
Time Channels::next_repeat(const Allowance& allowed, Duration latest) const {
  if (allowed.care < 2) return kNever;
  Time next = kNever;
  each(busy_ & ~of_rank(Priority::bulk), [&](std::size_t i) {
    // Parity rides along.
    next = std::min(next, channels_[i].reliable_out->next_copy(latest));
  });
  return next;
}

// Messages of high priority go before the payload source, all others after the payload.
std::size_t Channels::fill_high(FrameWriter& out, Time now, const Allowance& allowed,
                                SentPackets& ledger) {
  return allowed.high ? payload_rank(out, now, Priority::high, ledger) : 0;
}

// Channels of normal and of bulk priority, as far as the window permits.
std::size_t Channels::write_rest_of_channels(FrameWriter& out, Time now, const Allowance& allowed,
                                             SentPackets& ledger) {
  std::size_t bits = 0;
  if (allowed.normal) bits += payload_rank(out, now, Priority::normal, ledger);
  if (allowed.bulk) bits += payload_rank(out, now, Priority::bulk, ledger);
  return bits;
}

// All channels of one priority, each as far as the datagram has room.
std::size_t Channels::payload_rank(FrameWriter& out, Time now, Priority wanted,
                                   SentPackets& ledger) {
  std::size_t bits = 0;
  // They take turns in going first, so that none starves beside a greedy one of its rank.
  turn_ = turn_ + 1 < specs_.size() ? turn_ + 1 : 0;
  const unsigned all = (unsent_ | recent_) & of_rank(wanted);
  const unsigned first = all & ~0U << turn_;
  // The ring of channels is cut at `turn_`: first those from there on, then those below.
  for (const unsigned set : {first, all & ~first}) {
    each(set, [&](std::size_t i) {
      bits += channels_[i].state_out ? write_unreliable(out, i, ledger)
                                     : write_reliable(out, now, i, ledger);
      note_out(i);
    });
  }
  return bits;
}

// Of a `sequenced` channel with `repeat n`, each datagram carries the newest n messages. A
// message that no datagram holds goes in fragments.
std::size_t Channels::write_unreliable(FrameWriter& out, std::size_t channel, SentPackets& ledger) {
  const ChannelSpec& spec = specs_[channel];
  UnreliableSender& sender = *channels_[channel].state_out;
  const bool sequenced = spec.delivery == Delivery::sequenced;
  const std::size_t kept =
      sequenced && transport_kind_ == TransportKind::datagrams ? spec.repeat : 1;
  std::size_t total = 0;
  // Redundant copies go before newer messages, so that they are delivered. Of `repeat` messages
  // that a datagram carries, those that wait now are the newest.
  if (kept > 1) {
    auto& recent = sender.recent();
    const std::uint64_t fresh = sender.empty() ? 0 : 1;
    const std::uint64_t copies = std::min<std::uint64_t>(recent.size(), kept - fresh);
    for (std::uint64_t i = recent.end() - copies; i < recent.end(); ++i) {
      const UnreliableSender::Slot& slot = recent[i];
      if (slot.acked) continue;
      const std::size_t bits = out.copy(channel, slot.origin, slot.payload.bytes(), slot.bits);
      if (bits == 0) continue;
      total += bits;
      account(slot.tag, bits);
      ++counts_.repeated_early;
      ledger.add(SequencedRef{static_cast<std::uint8_t>(channel), slot.origin.key()});
    }
  }
  // New messages leave in their order until one does not fit. A message in fragments may take
  // several datagrams; `next_chunk` remembers the first fragment that is still to go.
  while (!sender.empty()) {
    UnreliableSender::Slot& slot = sender.front();
    std::size_t bits = 0;
    if (slot.payload.size() > kMaxWholeBytes) {
      const std::size_t chunks = chunks_of(slot.bits);
      std::size_t next = slot.next_chunk;
      bits =
          out.piece(channel, slot.origin, next > 0, slot.payload.bytes(), slot.bits, next, chunks);
      slot.next_chunk = static_cast<std::uint16_t>(next);
      total += bits;
      account(slot.tag, bits);
      if (slot.next_chunk < chunks) return total;
      sender.pop_sent(0);
      continue;
    }
    bits = sequenced ? out.sequenced(channel, slot.payload.bytes(), slot.bits, slot.origin)
                     : out.unreliable(channel, slot.payload.bytes(), slot.bits);
    if (bits == 0) return total;
    total += bits;
    account(slot.tag, bits);
    if (kept > 1) {
      ledger.add(SequencedRef{static_cast<std::uint8_t>(channel), slot.origin.key()});
    }
    sender.pop_sent(kept > 1 ? kept : 0);
  }
  return total;
}

// New and lost messages in their order, until the datagram is full. The ledger notes each message,
// so that the messages share the fate of their datagram: acknowledged or lost.
std::size_t Channels::write_reliable(FrameWriter& out, Time now, std::size_t channel,
                                     SentPackets& ledger) {
  ReliableSender& sender = *channels_[channel].reliable_out;
  std::size_t total = 0;
  while (const auto next = sender.peek()) {
    std::size_t bits = 0;
    std::size_t end = next->first_chunk;
    if (next->whole) {
      bits = out.reliable(channel, next->index, next->payload, next->bits);
    } else {
      // Not in crumbs: a piece has a head of some 50 bits.
      if (out.room_bits() < 4 * kFragmentBytes * 8 && next->end_chunk - end > 2) break;
      bits = out.piece(channel, next->index, next->payload, next->bits, end, next->end_chunk);
    }
    if (bits == 0) break;
    total += bits;
    account(next->tag, bits);
    if (next->repeated) ++counts_.repeated;
    ledger.add(ReliableRef{.channel = static_cast<std::uint8_t>(channel),
                           .first_fragment = static_cast<std::uint16_t>(next->first_chunk),
                           .fragments = static_cast<std::uint16_t>(end - next->first_chunk),
                           .index = next->index});
    sender.sent(*next, end, now);
  }
  return total;
}

// Redundant copies of messages without an ack, in datagrams that leave anyway or soon after:
// decision 19 has the count.
std::size_t Channels::write_repeats(FrameWriter& out, Time now, const Allowance& allowed,
                                    SentPackets& ledger) {
  std::size_t total = 0;
  if (allowed.care < 2) return 0;
  each(busy_ & ~of_rank(Priority::bulk), [&](std::size_t i) {
    ReliableSender& sender = *channels_[i].reliable_out;
    // Two copies of each message; what is to be beyond them is parity with its neighbours.
    const bool parity = allowed.care > 2;
    if (parity) total += write_parity(out, now, allowed, i);
    while (out.room_bits() > kRoomKeptBits) {
      auto next = sender.peek_repeat(now, allowed.repeat_gap, 2);
      if (!next && parity) next = sender.peek_lone(now, kParityPatience);
      if (!next) break;
      const std::size_t bits = out.reliable(i, next->index, next->payload, next->bits);
      if (bits == 0) break;
      total += bits;
      account(next->tag, bits);
      ++counts_.repeated_early;
      ledger.add(ReliableRef{.channel = static_cast<std::uint8_t>(i), .index = next->index});
      sender.repeated(*next, now);
    }
  });
  return total;
}

// Writes one parity for each message, with that message as the newest member. The ledger does not
// note parity: a lost parity is not sent again, because the copies of its members settle them.
std::size_t Channels::write_parity(FrameWriter& out, Time now, const Allowance& allowed,
                                   std::size_t channel) {
  ReliableSender& sender = *channels_[channel].reliable_out;
  std::size_t total = 0;
  while (out.room_bits() > kRoomKeptBits) {
    const auto parity = sender.peek_parity(now, allowed.repeat_gap);
    if (!parity) break;
    Combined combined;
    std::size_t lengths = 0;
    std::size_t longest = 0;
    for (unsigned i = 0; i <= kParityReach; ++i) {
      if (i > 0 && (parity->others >> (i - 1) & 1) == 0) continue;
      const auto member = sender.in_flight(parity->first + i);
      combined.mix(bits::Reader(member.payload, member.bits), member.bits);
      lengths ^= member.bits;
      longest = std::max(longest, member.bits);
    }
    const std::size_t bits =
        out.parity(channel, parity->first, parity->others, lengths, longest, combined.bytes());
    if (bits == 0) break;
    total += bits;
    account(sender.in_flight(parity->first).tag, bits);
    ++counts_.repeated_early;
    sender.parity_sent(*parity, now);
  }
  return total;
}

// Advertised receive windows: how far the peer may send, channel by channel.
std::size_t Channels::write_windows(FrameWriter& out, SentPackets& ledger) {
  std::size_t total = 0;
  for (std::size_t i = 0; i < specs_.size(); ++i) {
    Channel& channel = channels_[i];
    if ((windows_ & one(i)) == 0) continue;
    const std::size_t bits = out.window(i, channel.reliable_in->limit());
    if (bits == 0) break;
    total += bits;
    channel.window_again = false;
    channel.reliable_in->advertised();
    note_in(i);
    ledger.add(WindowRef{static_cast<std::uint8_t>(i)});
  }
  return total;
}

// A datagram was acknowledged or lost: each entry that the ledger noted for the datagram goes back
// to the channel that the entry came from.
void Channels::acked(const ReliableRef& ref) {
  channels_[ref.channel].reliable_out->acked(ref.index, ref.first_fragment, ref.fragments);
  note_out(ref.channel);
}
void Channels::acked(const SequencedRef& ref) {
  channels_[ref.channel].state_out->acked(Origin::from_key(ref.origin_key));
  note_out(ref.channel);
}
void Channels::lost(const ReliableRef& ref) {
  channels_[ref.channel].reliable_out->lost(ref.index, ref.first_fragment, ref.fragments);
  note_out(ref.channel);
}
void Channels::lost(const WindowRef& ref) {
  channels_[ref.channel].window_again = true;
  note_in(ref.channel);
}

// A probe has the message once more.
void Channels::resend(const ReliableRef& ref) {
  channels_[ref.channel].reliable_out->resend(ref.index, ref.first_fragment, ref.fragments);
  note_out(ref.channel);
}

// Nobody waits for state of a connection that closes.
void Channels::clear_state() {
  for (std::size_t i = 0; i < channels_.size(); ++i) {
    if (!channels_[i].state_out) continue;
    channels_[i].state_out->clear();
    note_out(i);
  }
}

// Urgent bytes that wait: they are taken off the budget of whoever asks what else fits.
std::size_t Channels::high_bytes() const {
  std::size_t bytes = 0;
  // Of what waits for its window, too.
  each((unsent_ | busy_) & of_rank(Priority::high), [&](std::size_t i) {
    bytes += channels_[i].state_out ? channels_[i].state_out->queued_bytes()
                                    : channels_[i].reliable_out->queued_bytes();
  });
  return bytes;
}

// ---- receiving ----

// Whether the peer was permitted to send this. A parity covers messages behind its own number as
// well.
bool Channels::in_window(const Frame& frame) const {
  const bool parity = frame.kind == FrameKind::parity;
  if (frame.kind != FrameKind::message && frame.kind != FrameKind::piece && !parity) return true;
  const Channel& channel = channels_[frame.channel];
  if (!channel.reliable_in) return true;
  const unsigned after = parity ? static_cast<unsigned>(std::bit_width(frame.others)) : 0;
  return channel.reliable_in->in_window(frame.index) &&
         channel.reliable_in->in_window(static_cast<std::uint16_t>(frame.index + after));
}

// Reliable frames go to their receiver, which finds copies and puts messages in order.
Errc Channels::receive(const Frame& frame, Inbox& inbox) {
  Channel& channel = channels_[frame.channel];
  if (frame.kind == FrameKind::window) {
    channel.reliable_out->set_limit(frame.value);
    note_out(frame.channel);
    return Errc::none;
  }
  if (!channel.reliable_in) return on_unreliable(frame, inbox);
  // Invariant of the window: what one datagram brings may itself have moved it.
  if (!in_window(frame)) return Errc::window_exceeded;
  const auto taken = frame.kind == FrameKind::parity
                         ? channel.reliable_in->receive_parity(frame, inbox)
                         : channel.reliable_in->receive(frame, inbox);
  if (taken.doubled) ++counts_.doubled;
  counts_.recovered += taken.recovered;
  put(stalled_, frame.channel, channel.reliable_in->stalled());
  return taken.error;
}

// An older sequenced message is of no use and is dropped; so is a message for which the inbox
// has no room: newer ones are on their way.
Errc Channels::on_unreliable(const Frame& frame, Inbox& inbox) {
  Channel& channel = channels_[frame.channel];
  const bool sequenced = specs_[frame.channel].delivery == Delivery::sequenced;
  if (sequenced && !channel.sequenced_in.is_newer(frame.origin)) {
    ++counts_.stale;
    return Errc::none;
  }
  if (frame.kind == FrameKind::piece) {
    if (!pieces_) pieces_ = std::make_unique<PieceStore>(reassembly_bytes_);
    const auto added = pieces_->add(frame);
    counts_.incomplete += added.discarded;
    if (added.complete == nullptr) return added.error;
    if (sequenced) channel.sequenced_in.accept(frame.origin);
    if (inbox.full()) {
      ++counts_.expired;
    } else {
      inbox.add(frame.channel, added.complete->payload(), added.complete->bits());
    }
    return Errc::none;
  }
  if (inbox.full()) {
    ++counts_.expired;
    return Errc::none;
  }
  if (sequenced) channel.sequenced_in.accept(frame.origin);
  inbox.add(frame.channel, frame.payload, frame.bits);
  return Errc::none;
}

// The game took a message: the window may move.
void Channels::handed_out(std::size_t channel, std::size_t bits) {
  if (!channels_[channel].reliable_in) return;
  channels_[channel].reliable_in->handed_out(bits);
  note_in(channel);
}

}  // namespace kwind::link
