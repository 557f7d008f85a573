// Flows over a real path: ours, and the kernel's TCP, with the same messages at the same times.
#include "path/flows.h"

#include <arpa/inet.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <cstring>
#include <mutex>

#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"
#include "kwind/link/keys.h"
#include "kwind/link/listener.h"

namespace kwind::bench {
namespace {

using namespace std::chrono_literals;

constexpr std::size_t kStampBytes = 8;

// A message carries the time at which the game sent it.
void stamp(std::vector<std::byte>& message, Time now) {
  const auto ticks = now.time_since_epoch().count();
  std::memcpy(message.data(), &ticks, kStampBytes);
}
Time stamp_of(std::span<const std::byte> message) {
  Duration::rep ticks = 0;
  std::memcpy(&ticks, message.data(), kStampBytes);
  return Time(Duration(ticks));
}

// Sender and receiver of one flow, each with its thread; the receiver ends a while after the
// sender.
class TwoEnds : public Flow {
 public:
  TwoEnds(const Load& load, Duration one_way, std::uint16_t port, bool in_order)
      : load_(load), one_way_(one_way), transport_(port), in_order_(in_order) {}

  void start(Forwarder& forwarder, std::size_t path) override {
    begin_ = io::now() + 300ms;
    receiver_ = forwarder.run_at(path, 1, [this] { receive(); });
    sender_ = forwarder.run_at(path, 0, [this] {
      wait_until(begin_ - 100ms);
      send();
    });
  }
  FlowResult finish() override {
    sender_.join();
    receiver_.join();
    // What never came is late by the time that it was waited for, or a flow that stood still until
    // the end would look better than one that went on.
    const std::size_t arrived = result_.delays.ms.size();
    for (std::size_t i = arrived; in_order_ && i < sent_at_.size(); ++i) {
      result_.delays.ms.push_back(ms_late(receive_end(), sent_at_[i]));
    }
    result_.delays.arrived = arrived;
    std::sort(result_.delays.ms.begin(), result_.delays.ms.end());
    return std::move(result_);
  }

 protected:
  virtual void send() = 0;
  virtual void receive() = 0;

  static void wait_until(Time until) {
    const Duration left = until - io::now();
    if (left > Duration{0}) std::this_thread::sleep_for(left);
  }
  [[nodiscard]] Time send_end() const { return begin_ + load_.warm_up + load_.time; }
  [[nodiscard]] Time receive_end() const { return send_end() + 3s; }
  [[nodiscard]] Time tick(std::uint64_t number) const {
    return begin_ + Duration(static_cast<Duration::rep>(static_cast<double>(number) * 1e9 /
                                                        load_.per_second));
  }
  [[nodiscard]] bool counts(Time sent) const {
    return sent >= begin_ + load_.warm_up && sent < send_end();
  }
  void heard(Time now, std::span<const std::byte> message) {
    const Time sent = stamp_of(message);
    if (!counts(sent)) return;
    result_.delays.ms.push_back(ms_late(now, sent));
  }
  void note_sent(Time now) {
    if (!counts(now)) return;
    ++result_.delays.sent;
    sent_at_.push_back(now);
  }
  [[nodiscard]] double ms_late(Time now, Time sent) const {
    return std::chrono::duration<double, std::milli>(now - sent - one_way_).count();
  }

  Load load_;
  Duration one_way_;
  std::uint16_t transport_;
  bool in_order_;  // what arrives is all that was sent up to there
  Time begin_{};
  std::vector<Time> sent_at_;  // of what counts
  FlowResult result_;          // the sender writes `sent` and `client`, the receiver the rest
  std::thread sender_;
  std::thread receiver_;
};

sockaddr_in address(const char* host, std::uint16_t port) {
  sockaddr_in out{};
  out.sin_family = AF_INET;
  out.sin_port = htons(port);
  inet_pton(AF_INET, host, &out.sin_addr);
  return out;
}

bool wait_for(int fd, short what, Time until) {
  pollfd file{fd, what, 0};
  const Duration left = std::max<Duration>(until - io::now(), Duration{0});
  const timespec timeout{static_cast<time_t>(left.count() / 1000000000),
                         static_cast<long>(left.count() % 1000000000)};
  return ppoll(&file, 1, &timeout, nullptr) > 0;
}

class Tcp final : public TwoEnds {
 public:
  Tcp(const Load& load, Duration one_way, std::string control, bool greedy, std::uint16_t port)
      : TwoEnds(load, one_way, port, !greedy), control_(std::move(control)), greedy_(greedy) {}

 private:
  void configure(int fd) {
    const int on = 1;
    setsockopt(fd, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on);
    if (setsockopt(fd, IPPROTO_TCP, TCP_CONGESTION, control_.data(),
                   static_cast<socklen_t>(control_.size())) != 0) {
      result_.problem = "the kernel has no congestion control " + control_;
    }
  }
  void send() override {
    const int fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
    configure(fd);
    const sockaddr_in to = address("10.77.0.2", transport_);
    int tries = 0;
    while (connect(fd, reinterpret_cast<const sockaddr*>(&to), sizeof to) != 0 && ++tries < 20) {
      std::this_thread::sleep_for(50ms);
    }
    std::vector<std::byte> message(greedy_ ? 4096 : load_.message_bytes);
    for (std::uint64_t n = 0; io::now() < send_end(); ++n) {
      if (!greedy_) wait_until(tick(n));
      const Time now = io::now();
      stamp(message, now);
      std::size_t done = 0;
      while (done < message.size() && io::now() < send_end()) {
        if (!wait_for(fd, POLLOUT, send_end())) break;
        const ssize_t put =
            ::send(fd, message.data() + done, message.size() - done, MSG_DONTWAIT | MSG_NOSIGNAL);
        if (put > 0) done += static_cast<std::size_t>(put);
      }
      note_sent(now);
    }
    wait_until(receive_end());
    close(fd);
  }
  void receive() override {
    const int door = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
    configure(door);
    const sockaddr_in here = address("10.77.0.2", transport_);
    if (bind(door, reinterpret_cast<const sockaddr*>(&here), sizeof here) != 0) {
      result_.problem = "cannot listen";
    }
    listen(door, 1);
    if (!wait_for(door, POLLIN, receive_end())) return;
    const int fd = accept4(door, nullptr, nullptr, SOCK_CLOEXEC);
    std::vector<std::byte> buffer(greedy_ ? 65536 : load_.message_bytes);
    std::size_t have = 0;
    while (wait_for(fd, POLLIN, receive_end())) {
      const ssize_t got = recv(fd, buffer.data() + have, buffer.size() - have, MSG_DONTWAIT);
      if (got == 0) break;
      if (got < 0) continue;
      const Time now = io::now();
      if (greedy_) {
        if (counts(now)) result_.bulk_bytes += static_cast<std::uint64_t>(got);
        continue;
      }
      have += static_cast<std::size_t>(got);
      if (have < buffer.size()) continue;
      heard(now, buffer);
      have = 0;
    }
    close(fd);
    close(door);
  }

  std::string control_;
  bool greedy_;
};

class Udp final : public TwoEnds {
 public:
  using TwoEnds::TwoEnds;

 private:
  void send() override {
    const int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    const sockaddr_in to = address("10.77.0.2", transport_);
    std::vector<std::byte> message(load_.message_bytes);
    for (std::uint64_t n = 0; io::now() < send_end(); ++n) {
      wait_until(tick(n));
      const Time now = io::now();
      stamp(message, now);
      sendto(fd, message.data(), message.size(), 0, reinterpret_cast<const sockaddr*>(&to),
             sizeof to);
      note_sent(now);
    }
    close(fd);
  }
  void receive() override {
    const int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    const sockaddr_in here = address("10.77.0.2", transport_);
    if (bind(fd, reinterpret_cast<const sockaddr*>(&here), sizeof here) != 0) return;
    std::vector<std::byte> buffer(2048);
    while (wait_for(fd, POLLIN, receive_end())) {
      const ssize_t got = recv(fd, buffer.data(), buffer.size(), MSG_DONTWAIT);
      if (got >= static_cast<ssize_t>(kStampBytes)) heard(io::now(), buffer);
    }
    close(fd);
  }
};

class LinkFlow final : public TwoEnds {
 public:
  LinkFlow(const Load& load, Duration one_way, const link::ChannelSpec& spec, bool greedy_bulk,
           std::uint16_t port)
      : TwoEnds(load, one_way, port, spec.delivery == Delivery::ordered),
        greedy_bulk_(greedy_bulk) {
    options_.channels = {spec, {Delivery::ordered}};
    options_.channels[1].priority = link::Priority::bulk;
    options_.tags = 1;
  }

 private:
  static const link::KeyPair& key() {
    static const link::KeyPair pair = link::KeyPair::from_secret(io::random_secret());
    return pair;
  }
  static void pump_out(link::Link& link, io::UdpTransport& port, const Endpoint* to) {
    const Time now = io::now();
    if (now >= link.next_wakeup()) link.wake(now);
    std::array<std::byte, link::kMaxDatagramBytes> out{};
    while (const std::size_t size = link.poll_datagram(now, out)) {
      port.send(now, to != nullptr ? *to : link.destination(), std::span(out).first(size));
    }
    port.flush(now);
  }
  void send() override {
    auto port = io::UdpTransport::open(Endpoint::v4(10, 77, 0, 1, 0));
    if (!port) return;
    const Endpoint to = Endpoint::v4(10, 77, 0, 2, transport_);
    link::ConnectOptions who{{"path", {{1, {}}}}, io::random_secret()};
    who.server_key = key().public_key;
    link::Link link = link::Link::connect(who, options_, io::now());
    std::vector<std::byte> message(load_.message_bytes);
    const std::vector<std::byte> bulk(8192);
    std::uint64_t n = 0;
    while (io::now() < receive_end() - 500ms && link.state() != link::State::closed) {
      while (const auto received = (*port)->receive(io::now())) {
        (void)link.receive(io::now(), received->bytes);
      }
      while (const auto event = link.poll_event()) {
        if (event->kind == link::Event::Kind::closed) result_.problem = event->text;
      }
      const Time now = io::now();
      for (; tick(n) <= now && now < send_end(); ++n) {
        if (link.state() != link::State::open) continue;
        stamp(message, now);
        if (link.send(0, 0, message, message.size() * 8) == Errc::none) note_sent(now);
      }
      if (greedy_bulk_ && link.state() == link::State::open && now < send_end()) {
        // As much as the queue takes, which is bounded.
        while (link.send(1, 0, bulk, bulk.size() * 8) == Errc::none) {
        }
      }
      pump_out(link, **port, &to);
      const Time next = tick(n) < send_end() ? tick(n) : kNever;
      (*port)->wait(std::min({next, link.next_wakeup(), now + 50ms}));
    }
    result_.client = link.stats();
  }
  void receive() override {
    auto port = io::UdpTransport::open(Endpoint::v4(10, 77, 0, 2, transport_));
    if (!port) {
      result_.problem = "cannot listen";
      return;
    }
    link::ListenerOptions door{{"path", {{1, {}}}}, io::random_secret(), 4, 0};
    door.key = key();
    link::Listener listener(door);
    std::optional<link::Link> link;
    std::array<std::byte, link::kBaseDatagramBytes> reply{};
    while (io::now() < receive_end()) {
      while (const auto received = (*port)->receive(io::now())) {
        const Time now = io::now();
        if (link::Listener::is_handshake(received->bytes)) {
          const auto outcome = listener.receive(now, received->from, received->bytes, reply);
          if (outcome.reply_bytes > 0) {
            (*port)->send(now, received->from, std::span(reply).first(outcome.reply_bytes));
          }
          while (const auto done = listener.exchange(now, reply)) {
            (*port)->send(now, done->to, std::span(reply).first(done->reply_bytes));
          }
          continue;
        }
        if (const auto admitted = listener.admit(now, 0, received->bytes)) {
          link.emplace(link::Link::accept(admitted->admission, received->from, options_, now));
        }
        if (link) {
          (void)link->receive_from(now, received->from, received->bytes);
          while (const auto event = link->poll_event()) {
            if (event->kind != link::Event::Kind::message) continue;
            if (event->channel == 0) heard(now, event->payload);
            if (event->channel == 1 && counts(now)) result_.bulk_bytes += event->payload.size();
          }
        }
      }
      if (link) pump_out(*link, **port, nullptr);
      (*port)->flush(io::now());
      (*port)->wait(std::min(link ? link->next_wakeup() : kNever, io::now() + 50ms));
    }
  }

  bool greedy_bulk_;
  link::LinkOptions options_;
};

}  // namespace

double Delays::at(double share) const {
  if (ms.empty()) return 0;
  const auto place = static_cast<std::size_t>(share * static_cast<double>(ms.size()));
  return ms[std::min(place, ms.size() - 1)];
}

std::unique_ptr<Flow> tcp_flow(const Load& load, Duration one_way, const std::string& control,
                               bool greedy, std::uint16_t port) {
  return std::make_unique<Tcp>(load, one_way, control, greedy, port);
}
std::unique_ptr<Flow> udp_flow(const Load& load, Duration one_way, std::uint16_t port) {
  return std::make_unique<Udp>(load, one_way, port, false);
}
std::unique_ptr<Flow> link_flow(const Load& load, Duration one_way, const link::ChannelSpec& spec,
                                bool greedy_bulk, std::uint16_t port) {
  return std::make_unique<LinkFlow>(load, one_way, spec, greedy_bulk, port);
}

}  // namespace kwind::bench
