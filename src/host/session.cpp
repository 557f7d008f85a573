// The inbound gate of one connection, in this order: ready, tick budget, rate limit. Reliable
// messages over a limit wait in their window; others are dropped and counted.
#include "host/session.h"

#include <fmt/format.h>

#include <algorithm>

#include "kwind/io/clock.h"

namespace kwind::host {
namespace {

// How often messages that are held back are looked at again.
constexpr Duration kHeldRetry = std::chrono::milliseconds(20);
// Message type and request id in front of the fields.
constexpr std::size_t kMaxPrefixBits = 16 + schema::kRequestIdBits;

}  // namespace

// Counts of connections that ended stay in the sums.
void Traffic::add(const link::Link& link) {
  const link::Stats& stats = link.stats();
  datagrams_sent += stats.datagrams_sent;
  datagrams_received += stats.datagrams_received;
  bytes_sent += stats.bytes_sent;
  bytes_received += stats.bytes_received;
  packets_lost += stats.packets_lost;
  messages_repeated += stats.messages_repeated;
  overhead_bits_sent += stats.overhead_bits_sent;
  bits_sent_by_type.resize(std::max(bits_sent_by_type.size(), link.bits_sent().size()));
  for (std::size_t type = 0; type < link.bits_sent().size(); ++type) {
    bits_sent_by_type[type] += link.bits_sent()[type];
  }
}

Secret32 seed_of(const Options& options) {
  if (!options.entropy) return io::random_secret();
  Secret32 seed;
  std::copy(options.entropy->begin(), options.entropy->end(), seed.bytes().begin());
  return seed;
}

link::LinkOptions link_options(const schema::ProtocolInfo& protocol, const Options& options,
                               schema::Direction incoming, const Secret32& secret,
                               std::size_t receive_window) {
  link::LinkOptions made;
  for (const schema::ChannelInfo& channel : protocol.channels) {
    link::ChannelSpec spec{channel.delivery, channel.life.since};
    if (channel.high) spec.priority = link::Priority::high;
    if (channel.bulk) spec.priority = link::Priority::bulk;
    if (channel.repeat > 0) spec.repeat = channel.repeat;
    for (const QueueLimit& limit : options.queues) {
      if (limit.channel != channel.name) continue;
      spec.queue_messages = limit.messages;
      spec.queue_bytes = limit.bytes;
      spec.at_limit = limit.at_limit;
    }
    spec.largest_in_bytes = is_reliable(spec.delivery) ? link::kMaxWholeBytes : 0;
    made.channels.push_back(spec);
  }
  // Only messages that say `split` may be larger than a datagram on such a channel. What may come
  // in pieces is as large as the largest message of its direction, in any version.
  for (const schema::MessageInfo& message : protocol.messages) {
    const std::size_t bits = message.max_bits + kMaxPrefixBits;
    if (bits <= link::kMaxWholeBytes * 8) continue;
    link::ChannelSpec& spec = made.channels[message.channel];
    spec.split = true;
    if (message.direction != schema::Direction::both && message.direction != incoming) continue;
    spec.largest_in_bytes =
        std::max(spec.largest_in_bytes, std::min(bits::bytes_for(bits), link::kMaxMessageBytes));
  }
  for (link::ChannelSpec& spec : made.channels) {
    spec.window_bytes = spec.largest_in_bytes + link::kMessageCost + receive_window;
  }
  made.tags = protocol.messages.size();
  made.take_in_by_hand = true;
  made.timeout = options.timeouts.idle_timeout;
  made.handshake_timeout = options.timeouts.handshake;
  made.keepalive = options.timeouts.keepalive;
  made.linger = options.timeouts.linger;
  made.secret = secret;
  made.key_log = options.key_log;
  return made;
}

// The handshake agrees on name, version and digest. The listings of the declarations are there to
// name the first one that differs.
link::Identity identity_of(const schema::ProtocolInfo& protocol, const Options& options) {
  link::Identity identity;
  KWIND_ASSERT(options.code_table_sets.size() <= link::kMaxCodeTables);
  identity.code_table_sets = options.code_table_sets;
  identity.code_tables_since = protocol.entities_since;
  identity.name = protocol.name;
  identity.payload_version = schema::kStateVersion;
  for (const schema::VersionInfo& entry : protocol.versions) {
    identity.versions.push_back({entry.version, entry.digest});
  }
  for (const schema::DeclarationInfo& row : protocol.declarations) {
    identity.declarations.push_back({std::string(row.name), row.from, row.digest});
  }
  return identity;
}

// What all connections of a host share. Codes of message types exist for each version that the
// protocol speaks, in both directions.
Wire::Wire(const schema::ProtocolInfo& protocol_in, schema::Direction way, const Options& options,
           TickBudget budget_in, unsigned max_faults_in)
    : protocol(protocol_in),
      plaintext(options.plaintext),
      timeouts(options.timeouts),
      hold_until_ready(options.hold_until_ready),
      open_requests(options.open_requests),
      budget(budget_in),
      max_faults(max_faults_in) {
  const schema::Direction back = way == schema::Direction::from_client
                                     ? schema::Direction::from_server
                                     : schema::Direction::from_client;
  for (const schema::VersionInfo& entry : protocol.versions) {
    incoming.emplace_back(protocol, way, entry.version);
    outgoing.emplace_back(protocol, back, entry.version);
  }
}

Counts Wire::counts(const route::DispatchCounts& route, const MessagePacker& packer) const {
  return {.drops = drops,
          .route = route,
          .values_out_of_range = packer.out_of_range(),
          .sends_refused = sends_refused,
          .unknown_to_peer = packer.unknown_to_peer(),
          .encoded = packer.packed(),
          .refs_emptied = refs_emptied};
}

// Rates are held at both ends. A receiver allows for more than a sender: messages that a path
// delays arrive together.
Session::Session(Wire& wire, link::Link link)
    : wire_(&wire),
      link_(std::move(link)),
      ready_(!wire.hold_until_ready),
      pending_requests_(wire.open_requests),
      held_(wire.protocol.channels.size()) {
  for (const schema::MessageInfo& message : wire.protocol.messages) {
    out_limits_.emplace_back(message.at_most_per_second, route::RateLimit::kSenderSlack);
    in_limits_.emplace_back(message.at_most_per_second, route::RateLimit::kReceiverSlack);
  }
}

// ---- sending ----

// A message that the link refused counts against no rate: the game may try again.
Errc Session::send(Time now, std::uint32_t peer, const PackedMessage& message,
                   const link::SharedBytes& shared) {
  if (link_.state() != link::State::open) return Errc::closed;
  const std::uint8_t channel = wire_->protocol.messages[message.type].channel;
  // The sender holds its own rates, so that a mistake of the game is an error here and not a closed
  // connection there.
  Errc error = Errc::none;
  const bool limited = wire_->protocol.messages[message.type].at_most_per_second > 0;
  if (limited && !out_limits_[message.type].passes(now)) {
    error = Errc::rate_limited;
  } else if (shared) {
    error = link_.send(channel, message.type, shared, message.bits);
  } else {
    error = link_.send(channel, message.type, message.bytes, message.bits);
  }
  if (error != Errc::none) {
    ++wire_->sends_refused;
    return error;
  }
  if (limited) out_limits_[message.type].take(now);  // only what was sent counts
  // The tap gets fields without the type's code and the request's number, as handlers do.
  if (wire_->tap) {
    bits::Reader fields(message.bytes, message.bits);
    const auto& codes =
        wire_->outgoing[static_cast<std::size_t>(wire_->protocol.version - message.version)];
    if (codes.get(fields, channel)) {
      const schema::MessageInfo& info = wire_->protocol.messages[message.type];
      if (info.role != schema::MessageRole::message) fields.get(schema::kRequestIdBits);
      show(now, peer, false, {info, fields, message.version, message.request_id});
    }
  }
  return error;
}

// The tap sees messages as they are handed on, and never those that were dropped.
void Session::show(Time now, std::uint32_t peer, bool received,
                   const route::RawMessage& message) const {
  if (!wire_->tap || (wire_->tap_peer && *wire_->tap_peer != peer)) return;
  const auto run = [&] { wire_->tap({now, peer, received, message}); };
  wire_->guard(std::ref(run));
}

// The number is taken when the request was sent: a refused one leaves no gap.
Result<std::uint16_t> Session::next_request_id() const {
  if (link_.state() != link::State::open) return fail(Errc::closed);
  if (pending_requests_.full()) return fail(Errc::too_many_requests);
  return pending_requests_.next_number();
}

Errc Session::request(Time now, std::uint32_t peer, const PackedMessage& request, Duration timeout,
                      route::PendingRequests::Settle settle) {
  const Errc error = send(now, peer, request);
  if (error != Errc::none) return error;
  // A request is followed by its answer in the list of messages.
  pending_requests_.add(request.request_id, static_cast<std::uint16_t>(request.type + 1),
                        now + timeout, std::move(settle));
  return Errc::none;
}

// Whether the peer waits for this answer.
bool Session::asks(std::uint16_t answer, std::uint16_t number) const {
  return std::any_of(asked_us_.begin(), asked_us_.end(), [&](const Question& question) {
    return question.type + 1 == answer && question.number == number;
  });
}

// The question is answered, or dropped: its place is free again.
bool Session::take_request_id(std::uint16_t answer, std::uint16_t number) {
  const auto found =
      std::find_if(asked_us_.begin(), asked_us_.end(), [&](const Question& question) {
        return question.type + 1 == answer && question.number == number;
      });
  if (found == asked_us_.end()) return false;
  asked_us_.erase(found);
  return true;
}

// ---- receiving ----

// The newest wait for ready(), as messages do: a client that loads a level misses no state.
void Session::keep_payload(const link::Event& event) {
  if (kept_payloads_.size() >= kMaxHeldState) {
    kept_payloads_.pop_front();
    wire_->drops.add(Errc::payload_not_taken);
  }
  kept_payloads_.push_back({{event.payload.begin(), event.payload.end()}, event.bits});
}

// Payloads go to the program in the order in which the link delivered them.
void Session::hand_over_payloads(Sink& sink) {
  while (!kept_payloads_.empty()) {
    const KeptPayload kept = std::move(kept_payloads_.front());
    kept_payloads_.pop_front();
    if (const Errc error = sink.filled(kept.bytes, kept.bits); error != Errc::none) {
      wire_->drops.add(error);
    }
  }
}

// Everything that has come since the last call, in the order of the link: what waited first,
// then what is new, then the end.
void Session::drain(Time now, Sink& sink) {
  if (ready_ && !kept_payloads_.empty()) hand_over_payloads(sink);
  if (held_count_ > 0) release_held(now, sink);
  // A handler may close the connection. Then the link hands out its end, and nothing else.
  while (const auto event = link_.poll_event()) on_event(now, *event, sink);
  if (end_waits_ && held_count_ == 0) finish(sink);
}

// Each outcome runs code of the game, which may ask again: so one at a time.
void Session::expire_requests(Time now, Sink& sink) {
  while (pending_requests_.next_deadline() <= now) {
    sink.guard(nullptr, [&] { pending_requests_.expire(now); });
  }
}

// The end is reported after all that arrived before it.
void Session::finish(Sink& sink) {
  const Ended ended = std::move(*end_waits_);
  end_waits_.reset();
  end_requests(sink);
  sink.closed(ended.code, ended.text);
}

void Session::drop_waiting() {
  drop_held(Errc::closed);
}

void Session::end_requests(Sink& sink) {
  while (pending_requests_.size() > 0) {
    sink.guard(nullptr, [&] { pending_requests_.end_all(); });
  }
}

void Session::set_ready(Time now) {
  if (ready_) return;
  ready_ = true;
  ready_since_ = now;
}

// One event of the link: a message, an opening, an end.
void Session::on_event(Time now, const link::Event& event, Sink& sink) {
  switch (event.kind) {
    case link::Event::Kind::opened: sink.opened(); return;
    case link::Event::Kind::closed:
      end_waits_ = Ended{event.code, std::string(event.text)};
      // Messages that wait are delivered before the end, as they came before it. Without ready()
      // nobody wants them.
      end_received_ = true;
      if (!ready_ || expelled_) drop_held(Errc::closed);
      if (held_count_ > 0) release_held(now, sink);
      return;
    case link::Event::Kind::payload: return on_payload(event, sink);
    case link::Event::Kind::message: return on_message(now, event, sink);
  }
}

// Payload takes of what a peer may send in a tick as messages do.
void Session::on_payload(const link::Event& event, Sink& sink) {
  if (expelled_) return wire_->drops.add(Errc::closed);
  if (!within_budget(event.bits)) return wire_->drops.add(Errc::over_budget);
  ++tick_messages_;
  tick_bytes_ += bits::bytes_for(event.bits);
  if (!ready_) return keep_payload(event);
  if (const Errc error = sink.filled(event.payload, event.bits); error != Errc::none) {
    wire_->drops.add(error);
  }
}

// A message passes the state of the connection, its type, the rate of its type and the budget of
// the tick, in this order. One that must not pass now waits if its channel is reliable, and is
// dropped if not.
void Session::on_message(Time now, const link::Event& event, Sink& sink) {
  bits::Reader reader(event.payload, event.bits);
  layout_.version = link_.version();
  const auto drop = [&](Errc why) {
    wire_->drops.add(why);
    link_.consume(event.channel, event.bits);
  };
  if (is_over()) return drop(Errc::closed);
  const auto type = wire_->incoming_of(layout_.version).get(reader, event.channel);
  if (!type) return drop(type.error());
  const schema::MessageInfo& info = wire_->protocol.messages[*type];
  std::uint16_t request_id = 0;
  if (info.role != schema::MessageRole::message) {
    request_id = static_cast<std::uint16_t>(reader.get(schema::kRequestIdBits));
    if (!reader.ok()) return drop(Errc::truncated);
    if (request_id == 0 && info.role == schema::MessageRole::request)
      return drop(Errc::value_range);
  }
  // Invariant: messages of a channel are handed on in the order in which the link gave them. One
  // that must wait makes all later ones wait.
  std::deque<Held>& waiting = held_[event.channel];
  // The rate is that at which messages come, however long they wait here afterwards.
  const bool counted = in_limits_[*type].take(now);
  Errc why = Errc::none;
  if (!ready_ || !waiting.empty() || !counted) {
    why = Errc::rate_limited;  // behind others, if nothing else
  } else if (!within_budget(event.bits)) {
    why = Errc::over_budget;
  }
  if (why == Errc::none) {
    deliver(now, event.channel, {info, reader, layout_.version, request_id}, event.bits, sink);
    return;
  }
  const bool keep = is_reliable(wire_->protocol.channels[event.channel].delivery);
  if (!keep && ready_) return drop(why);
  if (!keep && waiting.size() >= kMaxHeldState) {  // the newest are those that count
    wire_->drops.add(Errc::over_budget);
    waiting.pop_front();
    --held_count_;
  }
  // The payload lies in the link's memory, which its next call uses again: a waiting message is a
  // copy.
  Held held{*type, request_id, {}, reader.left_bits(), event.bits, now, counted};
  held.bytes.resize(bits::bytes_for(held.bits));
  reader.get_bits(held.bytes, held.bits);
  waiting.push_back(std::move(held));
  ++held_count_;
}

// Counts a datagram against the tick's budget; false if it is to be dropped unread. Messages are
// charged where they are handed out; pings and acks have no other place to be charged.
bool Session::charge_datagram() {
  const std::size_t max = wire_->budget.datagrams;
  if (max != 0 && tick_datagrams_ >= max) {
    wire_->drops.add(Errc::over_budget);
    return false;
  }
  ++tick_datagrams_;
  return true;
}

// Paused, the program takes no messages at all.
bool Session::within_budget(std::size_t bits) const {
  if (wire_->paused) return false;
  // One message passes in each tick however large it is, or a message larger than the budget would
  // never come.
  if (tick_messages_ == 0) return true;
  const TickBudget& max = wire_->budget;
  return (max.messages == 0 || tick_messages_ < max.messages) &&
         (max.bytes == 0 || tick_bytes_ + bits::bytes_for(bits) <= max.bytes);
}

// Messages that wait go in the order of their channel. One that is too fast for its rate waits
// as well, but not for ever: a client that keeps to no rate is closed.
void Session::release_held(Time now, Sink& sink) {
  looked_at_held_ = now;
  if (!ready_) return;
  for (std::size_t channel = 0; channel < held_.size(); ++channel) {
    std::deque<Held>& waiting = held_[channel];
    while (!waiting.empty()) {
      if (is_over()) return drop_held(Errc::closed);
      const std::uint16_t type = waiting.front().type;
      const schema::MessageInfo& info = wire_->protocol.messages[type];
      if (!within_budget(waiting.front().window_bits)) break;
      if (!waiting.front().counted && !in_limits_[type].take(now)) {
        const Time since = std::max({waiting.front().since, ready_since_, wire_->unpaused_since});
        if (now - since < wire_->timeouts.max_throttle_delay) break;
        expel(now, fmt::format("{} came faster than its `at most`", info.name), Errc::rate_limited);
        return drop_held(Errc::rate_limited);
      }
      const Held held = std::move(waiting.front());
      waiting.pop_front();
      --held_count_;
      deliver(now, channel,
              {info, bits::Reader(held.bytes, held.bits), layout_.version, held.request_id},
              held.window_bits, sink);
    }
  }
}

// Their room in the receive windows is not given back: the connection is over.
void Session::drop_held(Errc why) {
  if (held_count_ == 0) return;
  wire_->drops.add(why, held_count_);
  for (std::deque<Held>& waiting : held_) waiting.clear();
  held_count_ = 0;
}

// The receive window moves only now: messages that wait for the program keep the peer from sending
// more.
void Session::deliver(Time now, std::size_t channel, const route::RawMessage& message,
                      std::size_t window_bits, Sink& sink) {
  ++tick_messages_;
  tick_bytes_ += bits::bytes_for(window_bits);
  show(now, sink.peer(), true, message);
  const Handled done = hand_over(message, sink);
  if (done.error != Errc::none) wire_->drops.add(done.error);
  link_.consume(channel, window_bits);
  judge(now, done);
}

// An input came in a payload and was buffered; rate, checks and owners hold for it as for a
// message.
Errc Session::take_input(Time now, std::uint16_t type, std::span<const std::byte> fields,
                         std::size_t bits, Sink& sink) {
  const auto drop = [&](Errc why) {
    wire_->drops.add(why);
    return why;
  };
  if (link_.state() != link::State::open) return drop(Errc::closed);
  if (!in_limits_[type].take(now)) return drop(Errc::rate_limited);
  layout_.version = link_.version();
  const route::RawMessage message{wire_->protocol.messages[type], bits::Reader(fields, bits),
                                  layout_.version, 0};
  show(now, sink.peer(), true, message);
  const Handled done = hand_over(message, sink);
  judge(now, done);
  return done.error == Errc::none ? Errc::none : drop(done.error);
}

// What its refs name is looked up while it is decoded.
Handled Session::hand_over(const route::RawMessage& message, Sink& sink) {
  class Known final : public schema::KnownEntities {
   public:
    Known(const Wire& wire, std::uint32_t peer) : wire_(wire), peer_(peer) {}
    [[nodiscard]] bool knows(const schema::AnyRef& entity) const override {
      return wire_.knows_entity(peer_, entity);
    }

   private:
    const Wire& wire_;
    std::uint32_t peer_;
  };
  if (!wire_->knows_entity) return hand_on(message, sink);
  const Known known(*wire_, sink.peer());
  layout_.known = &known;
  const Handled done = hand_on(message, sink);
  layout_.known = nullptr;
  wire_->refs_emptied += std::exchange(layout_.emptied_refs, 0);
  return done;
}

// A request opens a question, up to a limit, before its handler runs: the handler may answer at
// once.
Handled Session::hand_on(const route::RawMessage& message, Sink& sink) {
  const std::uint16_t type = message.info.type;
  switch (message.info.role) {
    case schema::MessageRole::message: break;
    case schema::MessageRole::request: {
      if (asked_us_.size() >= wire_->open_requests) return {Errc::too_many_requests};
      if (!sink.listens(type)) break;
      asked_us_.push_back({type, message.request_id});
      const Handled done = sink.message(message, layout_);
      if (done.error != Errc::none) {
        take_request_id(static_cast<std::uint16_t>(type + 1), message.request_id);
      }
      return done;
    }
    case schema::MessageRole::answer: {
      Handled done;
      done.faults = sink.guard(&message, [&] {
        done.error = pending_requests_.answer(message.request_id, type, message.fields, layout_);
      });
      return done;
    }
  }
  return sink.message(message, layout_);
}

// What a handler or a check made of the message: faults add up, and some end the connection.
void Session::judge(Time now, const Handled& done) {
  faults_ += done.faults + (done.penalized ? 1 : 0);
  if (done.close) {
    expel(now, error_info(Errc::not_allowed).text, Errc::not_allowed);
  } else if (wire_->max_faults > 0 && faults_ >= wire_->max_faults) {
    expel(now, error_info(Errc::too_many_faults).text, Errc::too_many_faults);
  }
}

// A peer that broke a rule is not waited for: it would keep its place as long as it pleases.
void Session::expel(Time now, std::string_view reason, Errc code) {
  expelled_ = true;
  link_.break_off(now, reason, code);
}

// Nobody wants what the peer has sent: the program closed the connection, or the peer was expelled.
bool Session::is_over() const {
  return expelled_ || link_.state() == link::State::closing;
}

// ---- the pump ----

// Sends until the link has no more to say, and begins the next tick's budget when it is time.
void Session::pump_out(Time now, Transport& transport, const std::optional<Endpoint>& to) {
  if (now >= tick_end_) {
    tick_messages_ = 0;
    tick_bytes_ = 0;
    tick_datagrams_ = 0;
    tick_end_ = now + wire_->budget.time;
  }
  std::array<std::byte, link::kMaxDatagramBytes> buffer;  // NOLINT: written before it is read
  while (const std::size_t size = link_.poll_datagram(now, buffer)) {
    transport.send(now, to ? *to : link_.destination(), std::span(buffer).first(size));
  }
}

Time Session::next_wakeup() const {
  const Time next = std::min(link_.next_wakeup(), pending_requests_.next_deadline());
  // Before ready() nothing that waits may pass.
  return held_count_ == 0 || !ready_ ? next : std::min(next, looked_at_held_ + kHeldRetry);
}

}  // namespace kwind::host
