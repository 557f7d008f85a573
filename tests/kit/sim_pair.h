// A client link and a server link joined by two lanes in virtual time, driven event by event.
#pragma once
#include <array>
#include <functional>
#include <limits>
#include <optional>
#include <set>
#include <vector>

#include "kwind/core/assert.h"
#include "kwind/io/sim/simulated_path.h"
#include "kwind/link/link.h"
#include "kwind/link/listener.h"

namespace kwind::kit {

inline constexpr Time at(Duration since_start) {
  return Time(std::chrono::seconds(1000) + since_start);
}

inline link::Identity test_identity() {
  return {"test", {{1, blake2b_128("test")}}};
}

/// 0 unreliable, 1 sequenced, 2 ordered, 3 reliable; 4 sequenced with repeats, 5 unreliable split,
/// 6 ordered bulk.
inline std::vector<link::ChannelSpec> every_delivery() {
  std::vector<link::ChannelSpec> channels = {
      {Delivery::unreliable}, {Delivery::sequenced},  {Delivery::ordered}, {Delivery::reliable},
      {Delivery::sequenced},  {Delivery::unreliable}, {Delivery::ordered}};
  channels[4].repeat = 3;
  channels[5].split = true;
  channels[6].priority = link::Priority::bulk;
  return channels;
}

struct SimPairOptions {
  std::uint64_t seed = 1;
  io::sim::Conditions conditions;
  std::vector<link::ChannelSpec> channels = every_delivery();
  std::set<std::size_t> lose;    ///< datagrams to lose, counted over both directions from 0
  std::set<std::size_t> repeat;  ///< datagrams to deliver twice
  std::set<std::size_t> delay;   ///< datagrams to deliver 300 ms later
  std::function<void(std::size_t, std::vector<std::byte>&)> alter;  ///< may change any datagram
  /// Sees what passes at the server: the client's datagrams as they arrive, the server's as they
  /// leave.
  std::function<void(Time, bool from_server, std::span<const std::byte>)> watch{};
  /// What an end's clock shows beyond the time that passes: clocks may jump.
  std::function<Duration(bool is_server, Time)> skew{};
  link::Mode mode = link::Mode::encrypted;
  link::TransportKind transport_kind = link::TransportKind::datagrams;
  std::function<void(link::LinkOptions&)> adjust{};  ///< of both links
  std::function<void(link::ListenerOptions&)> adjust_door{};
  std::function<void(link::ConnectOptions&)> adjust_client{};
};

inline Secret32 secret_of(std::uint64_t seed) {
  Secret32 secret;
  for (std::size_t i = 0; i < 8; ++i) secret.bytes()[i] = static_cast<std::byte>(seed >> (8 * i));
  return secret;
}
/// The key pair of the server in tests.
inline const link::KeyPair& server_key() {
  static const link::KeyPair key = link::KeyPair::from_secret(secret_of(0x5a17));
  return key;
}

class SimPair {
 public:
  explicit SimPair(const SimPairOptions& options)
      : options_(options),
        up_(options.conditions, options.seed),
        down_(options.conditions, ~options.seed),
        listener_(door_options(options)) {
    link_options_.channels = options.channels;
    link_options_.tags = options.channels.size();
    link_options_.handshake_timeout = std::chrono::seconds(20);
    link_options_.secret = secret_of(options.seed);
    if (options.adjust) options.adjust(link_options_);
    link::ConnectOptions who{test_identity(), secret_of(options.seed * 77 + 5)};
    if (options.mode == link::Mode::encrypted) who.server_key = server_key().public_key;
    who.transport_kind = options.transport_kind;
    if (options.adjust_client) options.adjust_client(who);
    client_.emplace(link::Link::connect(std::move(who), link_options_, now_));
  }

  using OnEvent = std::function<void(bool at_server, const link::Event&)>;

  /// Runs until `end`, handing every event to `on_event`.
  void run_until(Time end, const OnEvent& on_event = {}) {
    for (;;) {
      pump(on_event);
      Time next = std::min(up_.next(), server_ ? wakeup_of(*server_, true) : kNever);
      next = std::min(next, client_rests() ? client_rests_until_
                                           : std::min(down_.next(), wakeup_of(*client_, false)));
      for (const Late& late : late_) next = std::min(next, late.due);
      if (next > end) break;
      // A wake-up that is due but moves nothing would spin for ever: it is a failure.
      stuck_ = next <= now_ ? stuck_ + 1 : 0;
      KWIND_ASSERT(stuck_ < 1000);
      now_ = std::max(now_, next);
    }
    now_ = end;
  }

  /// The client does not look until then: what comes waits for it.
  void rest_client_until(Time end) { client_rests_until_ = end; }

  [[nodiscard]] Time now() const { return now_; }
  link::Link& client() { return *client_; }
  link::Link& server() { return *server_; }
  [[nodiscard]] bool has_server() const { return server_.has_value(); }
  link::Listener& listener() { return listener_; }
  [[nodiscard]] const std::vector<link::ChannelSpec>& channels() const { return options_.channels; }
  [[nodiscard]] std::size_t datagrams() const { return datagrams_; }
  /// What the server sent to addresses at which the client is not.
  [[nodiscard]] std::size_t bytes_elsewhere() const { return bytes_elsewhere_; }
  /// The last datagram that the client or the server put on the wire.
  [[nodiscard]] const std::vector<std::byte>& last(bool from_server) const {
    return last_[from_server ? 1 : 0];
  }
  /// From now on, both ways.
  void set_conditions(const io::sim::Conditions& conditions) {
    up_.set_conditions(conditions);
    down_.set_conditions(conditions);
  }
  /// The path swallows datagrams above this size from now on.
  void narrow_to(std::size_t bytes) { widest_ = bytes; }
  /// The client's datagrams come from another address from now on.
  void move_client(const Endpoint& to) { client_address_ = to; }
  static constexpr Endpoint client_address() { return Endpoint::v4(127, 0, 0, 2, 5000); }
  static constexpr Endpoint server_address() { return Endpoint::v4(127, 0, 0, 1, 4000); }

 private:
  [[nodiscard]] bool client_rests() const { return now_ < client_rests_until_; }
  [[nodiscard]] Time clock(bool is_server) const {
    return options_.skew ? now_ + options_.skew(is_server, now_) : now_;
  }
  [[nodiscard]] Time wakeup_of(const link::Link& link, bool is_server) const {
    const Time wake = link.next_wakeup();
    return wake == kNever || wake == Time::min() ? wake : wake - (clock(is_server) - now_);
  }
  static link::ListenerOptions door_options(const SimPairOptions& options) {
    link::ListenerOptions door{test_identity(), secret_of(options.seed), 4, 0};
    if (options.mode == link::Mode::encrypted) door.key = server_key();
    if (options.adjust_door) options.adjust_door(door);
    return door;
  }

  struct Late {
    Time due;
    bool from_server;
    std::vector<std::byte> bytes;
  };

  void put(bool from_server, std::vector<std::byte> bytes) {
    last_[from_server ? 1 : 0] = bytes;
    if (from_server && options_.watch) options_.watch(now_, true, bytes);
    const std::size_t number = datagrams_++;
    if (options_.lose.contains(number) || bytes.size() > widest_) return;
    if (options_.alter) options_.alter(number, bytes);
    if (options_.delay.contains(number)) {
      late_.push_back({now_ + std::chrono::milliseconds(300), from_server, bytes});
      return;
    }
    push(from_server, bytes);
    if (options_.repeat.contains(number)) push(from_server, bytes);
  }
  void push(bool from_server, const std::vector<std::byte>& bytes) {
    (from_server ? down_ : up_).push(now_, client_address_, server_address(), bytes);
  }

  void pump(const OnEvent& on_event) {
    for (std::size_t i = 0; i < late_.size();) {
      if (late_[i].due > now_) {
        ++i;
        continue;
      }
      push(late_[i].from_server, late_[i].bytes);
      late_.erase(late_.begin() + static_cast<std::ptrdiff_t>(i));
    }
    io::sim::Datagram datagram;
    while (up_.pop(now_, datagram)) to_server(datagram.bytes, on_event);
    while (!client_rests() && down_.pop(now_, datagram)) {
      (void)client_->receive(clock(false), datagram.bytes);
      drain(*client_, false, on_event);
    }
    if (!client_rests()) turn(*client_, false, on_event);
    if (server_) turn(*server_, true, on_event);
  }

  void to_server(const std::vector<std::byte>& bytes, const OnEvent& on_event) {
    if (options_.watch) options_.watch(now_, false, bytes);
    if (link::Listener::is_handshake(bytes)) {
      std::array<std::byte, link::kBaseDatagramBytes> reply{};
      const auto outcome =
          listener_.receive(now_, client_address_, bytes, reply, options_.transport_kind);
      reply_with(reply, outcome.reply_bytes);
      while (const auto done = listener_.exchange(now_, reply))
        reply_with(reply, done->reply_bytes);
      return;
    }
    if (const auto admitted = listener_.admit(now_, 0, bytes)) {
      KWIND_ASSERT(admitted->error == Errc::none);
      server_.emplace(link::Link::accept(admitted->admission, admitted->admission.from,
                                         link_options_, admitted->admission.answered));
    }
    if (!server_) return;
    (void)server_->receive_from(clock(true), client_address_, bytes);
    drain(*server_, true, on_event);
  }
  void reply_with(std::span<const std::byte> reply, std::size_t bytes) {
    if (bytes > 0) put(true, {reply.begin(), reply.begin() + static_cast<std::ptrdiff_t>(bytes)});
  }

  void turn(link::Link& link, bool is_server, const OnEvent& on_event) {
    const Time now = clock(is_server);
    if (now >= link.next_wakeup()) link.wake(now);
    drain(link, is_server, on_event);
    std::array<std::byte, link::kMaxDatagramBytes> out{};
    while (const std::size_t size = link.poll_datagram(now, out)) {
      if (is_server && link.destination() != client_address_) {
        bytes_elsewhere_ += size;  // nobody is there
        continue;
      }
      put(is_server, {out.begin(), out.begin() + static_cast<std::ptrdiff_t>(size)});
    }
  }
  void drain(link::Link& link, bool is_server, const OnEvent& on_event) {
    while (const auto event = link.poll_event()) {
      if (on_event) on_event(is_server, *event);
    }
  }

  SimPairOptions options_;
  Endpoint client_address_ = client_address();
  Time client_rests_until_{};
  Time now_ = at(Duration{0});
  io::sim::SimulatedPath up_;
  io::sim::SimulatedPath down_;
  link::Listener listener_;
  link::LinkOptions link_options_;
  std::optional<link::Link> client_;
  std::optional<link::Link> server_;
  std::vector<Late> late_;
  std::size_t datagrams_ = 0;
  std::size_t widest_ = std::numeric_limits<std::size_t>::max();
  std::size_t bytes_elsewhere_ = 0;
  std::array<std::vector<std::byte>, 2> last_;
  int stuck_ = 0;
};

}  // namespace kwind::kit
