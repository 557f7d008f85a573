#include "session.h"

#include <fmt/format.h>

#include <algorithm>

#include "kwind/io/clock.h"

namespace kwind::host {
namespace {

// How often messages that are held back are looked at again.
constexpr Duration kHeldRetry = std::chrono::milliseconds(20);

}  // namespace

void Traffic::add(const link::Link& link) {
  const link::Stats& stats = link.stats();
  datagrams_sent += stats.datagrams_sent;
  datagrams_received += stats.datagrams_received;
  bytes_sent += stats.bytes_sent;
  bytes_received += stats.bytes_received;
  packets_lost += stats.packets_lost;
  messages_repeated += stats.messages_repeated;
  overhead_bits_sent += stats.overhead_bits_sent;
  bits_sent_by_kind.resize(std::max(bits_sent_by_kind.size(), link.bits_sent().size()));
  for (std::size_t kind = 0; kind < link.bits_sent().size(); ++kind) {
    bits_sent_by_kind[kind] += link.bits_sent()[kind];
  }
}

bits::Secret32 seed_of(const Options& options) {
  if (!options.entropy) return io::random_secret();
  bits::Secret32 seed;
  std::copy(options.entropy->begin(), options.entropy->end(), seed.bytes().begin());
  return seed;
}

link::LinkOptions link_options(const schema::ProtocolInfo& protocol, const Options& options,
                               const bits::Secret32& seed) {
  link::LinkOptions made;
  for (const schema::ChannelInfo& channel : protocol.channels) {
    link::ChannelSpec spec{channel.delivery, channel.life.since};
    if (channel.high) spec.priority = link::Priority::high;
    if (channel.bulk) spec.priority = link::Priority::bulk;
    if (channel.repeat > 0) spec.repeat = channel.repeat;
    made.channels.push_back(spec);
  }
  // Only messages that say `split` may be larger than a datagram on such a channel.
  for (const schema::MessageInfo& message : protocol.messages) {
    if (message.most_bits > link::kMaxWholeBytes * 8) made.channels[message.channel].split = true;
  }
  made.tags = protocol.messages.size();
  made.timeout = options.timeouts.silence;
  made.handshake_timeout = options.timeouts.handshake;
  made.keepalive = options.timeouts.keepalive;
  made.linger = options.timeouts.linger;
  made.seed = bits::Reader(bits::derive(seed, "link").bytes()).get(64);
  made.key_log = options.key_log;
  return made;
}

link::Identity identity_of(const schema::ProtocolInfo& protocol) {
  link::Identity identity;
  identity.name = protocol.name;
  for (const schema::VersionInfo& entry : protocol.versions) {
    identity.versions.push_back({entry.version, entry.digest});
  }
  for (const schema::DeclarationInfo& row : protocol.declarations) {
    identity.declarations.push_back({std::string(row.name), row.from, row.digest});
  }
  return identity;
}

Wire::Wire(const schema::ProtocolInfo& protocol_in, schema::Direction way, const Options& options)
    : protocol(protocol_in), clear_mode(options.clear_mode), timeouts(options.timeouts) {
  for (const schema::VersionInfo& entry : protocol.versions) {
    incoming.emplace_back(protocol, way, entry.version);
  }
}

Session::Session(Wire& wire, link::Link link)
    : wire_(&wire), link_(std::move(link)), held_(wire.protocol.channels.size()) {
  for (const schema::MessageInfo& message : wire.protocol.messages) {
    out_limits_.emplace_back(message.at_most_per_second, route::RateLimit::kSenderSlack);
    in_limits_.emplace_back(message.at_most_per_second, route::RateLimit::kReceiverSlack);
  }
}

Errc Session::send(Time now, const PackedMessage& message) {
  if (link_.state() != link::State::open) return Errc::closed;
  Errc error = Errc::none;
  if (!out_limits_[message.kind].take(now)) {
    error = Errc::rate_limited;
  } else {
    error = link_.send(wire_->protocol.messages[message.kind].channel, message.kind, message.bytes,
                       message.bits);
  }
  if (error != Errc::none) ++wire_->sends_refused;
  return error;
}

void Session::drain(Time now, Sink& sink) {
  if (held_count_ > 0) release_held(now, sink);
  while (const auto event = link_.poll_event()) hear(now, *event, sink);
}

void Session::hear(Time now, const link::Event& event, Sink& sink) {
  switch (event.kind) {
    case link::Event::Kind::opened: sink.opened(); return;
    case link::Event::Kind::closed: sink.closed(event.code, event.text); return;
    case link::Event::Kind::fill:
    case link::Event::Kind::acked:
    case link::Event::Kind::lost: return;  // nobody here fills datagrams
    case link::Event::Kind::message: break;
  }
  bits::Reader reader(event.payload, event.bits);
  layout_.version = link_.version();
  const auto kind = wire_->incoming_of(layout_.version).get(reader, event.channel);
  if (!kind) {
    wire_->drops.add(kind.error());
    return;
  }
  const Delivery delivery = wire_->protocol.channels[event.channel].delivery;
  std::deque<Held>& waiting = held_[event.channel];
  if (waiting.empty() && in_limits_[*kind].take(now)) {
    deliver(*kind, reader, sink);
  } else if (!is_reliable(delivery)) {
    wire_->drops.add(Errc::rate_limited);
  } else if (waiting.size() < kMostHeld) {
    Held held{*kind, {}, reader.left_bits(), now};
    held.bytes.resize(bits::bytes_for(held.bits));
    reader.get_bits(held.bytes, held.bits);
    waiting.push_back(std::move(held));
    ++held_count_;
  } else {
    wire_->drops.add(Errc::rate_limited);
    link_.close(now, fmt::format("{} came faster than its `at most`",
                                 wire_->protocol.messages[*kind].name));
  }
}

void Session::release_held(Time now, Sink& sink) {
  for (std::deque<Held>& waiting : held_) {
    while (!waiting.empty()) {
      if (link_.state() != link::State::open) {  // nobody wants them any more
        held_count_ -= waiting.size();
        waiting.clear();
        break;
      }
      const std::uint16_t kind = waiting.front().kind;
      if (!in_limits_[kind].take(now)) {
        if (now - waiting.front().since < wire_->timeouts.held_back) break;
        wire_->drops.add(Errc::rate_limited, waiting.size());
        link_.close(now, fmt::format("{} came faster than its `at most`",
                                     wire_->protocol.messages[kind].name));
        continue;
      }
      const Held held = std::move(waiting.front());
      waiting.pop_front();
      --held_count_;
      deliver(held.kind, bits::Reader(held.bytes, held.bits), sink);
    }
  }
}

void Session::deliver(std::uint16_t kind, const bits::Reader& message, Sink& sink) {
  const Errc error = sink.message(kind, message, layout_);
  if (error != Errc::none) wire_->drops.add(error);
}

void Session::pump_out(Time now, io::Port& port, const std::optional<Endpoint>& to) {
  if (now >= link_.next_wakeup()) link_.wake(now);
  std::array<std::byte, link::kMaxDatagramBytes> buffer{};
  while (const std::size_t size = link_.poll_datagram(now, buffer)) {
    port.send(now, to ? *to : link_.destination(), std::span(buffer).first(size));
  }
}

Time Session::next_wakeup() const {
  const Time link = link_.next_wakeup();
  if (held_count_ == 0) return link;
  Time oldest = kNever;
  for (const std::deque<Held>& waiting : held_) {
    if (!waiting.empty()) oldest = std::min(oldest, waiting.front().since);
  }
  return std::min(link, oldest + kHeldRetry);
}

}  // namespace kwind::host
