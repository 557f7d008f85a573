// Attackers without a connection.
#include <arpa/inet.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <unistd.h>

#include <thread>

#include "attack.h"
#include "kwind/io/tcp_transport.h"

namespace kwind::siege_bench {
namespace {

constexpr std::size_t kConnectHead = 29;  // opening and cookie; the Noise message follows

Endpoint attacker_address(std::size_t number) {
  return Endpoint::v4(127, 66, static_cast<std::uint8_t>(number / 250),
                      static_cast<std::uint8_t>(1 + number % 250), 0);
}

}  // namespace

std::vector<std::unique_ptr<io::UdpTransport>> sockets(std::size_t count) {
  std::vector<std::unique_ptr<io::UdpTransport>> made;
  for (std::size_t i = 0; i < count; ++i) {
    auto transport = io::UdpTransport::open(attacker_address(i));
    if (transport) made.push_back(std::move(*transport));
  }
  return made;
}

link::Link stranger(const Target& target, std::mt19937_64& random,
                    link::TransportKind transport_kind, bool resumes) {
  const auto random_secret = [&] {
    Secret32 secret;
    for (std::byte& byte : secret.bytes()) byte = static_cast<std::byte>(random());
    return secret;
  };
  link::Identity identity;
  identity.name = siege::kProtocol.name;
  identity.payload_version = schema::kStateVersion;
  for (const auto& version : siege::kProtocol.versions) {
    identity.versions.push_back({version.version, version.digest});
  }
  link::ConnectOptions who{identity, random_secret()};
  who.server_key = target.key;
  who.transport_kind = transport_kind;
  if (resumes) who.resume = random_secret();
  link::LinkOptions options;
  options.channels = {{Delivery::unreliable}};
  options.secret = random_secret();
  return link::Link::connect(who, options, io::now());
}

void put(Transport& transport, const Endpoint& to, std::span<const std::byte> bytes, Sent& sent) {
  transport.send(io::now(), to, bytes);
  ++sent.datagrams;
  sent.bytes += bytes.size();
}

void drain(Transport& transport, Sent& sent) {
  while (const auto back = transport.receive(io::now())) sent.answered += back->bytes.size();
}

Attack random_bytes(double per_second) {
  return [=](const Target& target, const std::atomic<bool>& stop, Sent& sent) {
    const auto transports = sockets(1);
    std::mt19937_64 random(7);
    std::vector<std::byte> bytes;
    const Time start = io::now();
    for (std::uint64_t n = 0; !stop;) {
      const double due = std::chrono::duration<double>(io::now() - start).count() * per_second;
      for (; static_cast<double>(n) < due && !stop; ++n) {
        bytes.resize(1 + random() % 100);
        for (std::byte& byte : bytes) byte = static_cast<std::byte>(random());
        if (n % 2 == 0 && bytes.size() > 8) {  // data of a connection that lives
          bytes[0] = std::byte{1};
          bytes[1] = static_cast<std::byte>(random() % kClients);
        }
        put(*transports[0], target.udp, bytes, sent);
      }
      transports[0]->flush(io::now());
      drain(*transports[0], sent);
      std::this_thread::sleep_for(500us);
    }
  };
}

Attack knocking(std::size_t addresses, Knock kind) {
  return [=](const Target& target, const std::atomic<bool>& stop, Sent& sent) {
    const auto transports = sockets(addresses);
    std::mt19937_64 random(11);
    std::vector<std::byte> memory(link::kMaxDatagramBytes);
    const auto connect_of = [&](io::UdpTransport& transport) -> std::vector<std::byte> {
      link::Link who =
          stranger(target, random, link::TransportKind::datagrams, kind == Knock::resume);
      std::size_t size = who.poll_datagram(io::now(), memory);
      put(transport, target.udp, std::span(memory).first(size), sent);
      transport.flush(io::now());
      for (const Time end = io::now() + 5ms; io::now() < end && !stop;) {
        if (const auto back = transport.receive(io::now())) {
          sent.answered += back->bytes.size();
          (void)who.receive(io::now(), back->bytes);
          size = who.poll_datagram(io::now(), memory);
          if (size > 0) return {memory.begin(), memory.begin() + static_cast<std::ptrdiff_t>(size)};
        }
      }
      return {};
    };
    std::vector<std::byte> one;
    for (std::size_t turn = 0; !stop; ++turn) {
      io::UdpTransport& transport = *transports[turn % transports.size()];
      if (kind == Knock::hello) {
        link::Link who = stranger(target, random, link::TransportKind::datagrams);
        const std::size_t size = who.poll_datagram(io::now(), memory);
        for (int i = 0; i < 32; ++i) {
          memory[4] = static_cast<std::byte>(random());
          put(transport, target.udp, std::span(memory).first(size), sent);
        }
      } else if (kind == Knock::unfinished || kind == Knock::resume) {
        const auto connect = connect_of(transport);
        if (!connect.empty()) put(transport, target.udp, connect, sent);
      } else if (kind == Knock::replay && !one.empty()) {
        for (int i = 0; i < 32; ++i) put(*transports[0], target.udp, one, sent);
      } else {
        auto connect = connect_of(transport);
        if (connect.empty()) continue;
        for (std::size_t i = kConnectHead; i < connect.size(); ++i) {
          connect[i] = static_cast<std::byte>(random());
        }
        one = connect;
        // The same cookie under other keys, too.
        for (int i = 0; i < 8; ++i) {
          connect[kConnectHead] = static_cast<std::byte>(i);
          put(transport, target.udp, connect, sent);
        }
      }
      transport.flush(io::now());
      drain(transport, sent);
    }
  };
}

void tcp_flood(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  std::mt19937_64 random(13);
  std::vector<std::byte> memory(link::kMaxDatagramBytes);
  link::Link who = stranger(target, random, link::TransportKind::stream);
  const std::size_t size = who.poll_datagram(io::now(), memory);
  for (std::size_t i = kConnectHead; i < size; ++i) memory[i] = static_cast<std::byte>(random());
  while (!stop) {
    auto transport = io::TcpTransport::connect(target.tcp);
    if (!transport) return;
    bool ended = false;
    for (int i = 0; i < 10000 && !ended && !stop; ++i) {
      put(**transport, target.tcp, std::span(memory).first(size), sent);
      (*transport)->flush(io::now());
      while (const auto back = (*transport)->receive(io::now()))
        sent.answered += back->bytes.size();
      ended = (*transport)->take_ended().has_value();
    }
  }
}

void port_zero(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  const int raw = ::socket(AF_INET, SOCK_RAW, IPPROTO_UDP);
  if (raw < 0) return;  // not root
  std::mt19937_64 random(17);
  std::vector<std::byte> packet(8 + link::kMaxDatagramBytes);
  sockaddr_in to{};
  to.sin_family = AF_INET;
  to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  while (!stop) {
    link::Link who = stranger(target, random, link::TransportKind::datagrams);
    const std::size_t size = who.poll_datagram(io::now(), std::span(packet).subspan(8));
    const auto put16 = [&](std::size_t place, std::size_t value) {
      packet[place] = static_cast<std::byte>(value >> 8);
      packet[place + 1] = static_cast<std::byte>(value);
    };
    put16(0, 0);
    put16(2, target.udp.port);
    put16(4, size + 8);
    put16(6, 0);
    for (int i = 0; i < 4; ++i) {
      (void)::sendto(raw, packet.data(), size + 8, 0, reinterpret_cast<const sockaddr*>(&to),
                     sizeof to);
      ++sent.datagrams;
      sent.bytes += size;
    }
    std::this_thread::sleep_for(1ms);
  }
  ::close(raw);
}

namespace {

// Streams of as many addresses, so that no address has more than its share.
class Streams {
 public:
  explicit Streams(const Target& target) {
    to_.sin_family = AF_INET;
    to_.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    to_.sin_port = htons(target.tcp.port);
  }
  Streams(const Streams&) = delete;
  Streams& operator=(const Streams&) = delete;
  ~Streams() {
    for (const int each : open_) ::close(each);
  }
  // Sockets that are not connected yet; fewer if there are no descriptors left.
  void prepare(std::size_t count) {
    while (open_.size() < count) {
      const int made = ::socket(AF_INET, SOCK_STREAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
      if (made < 0) return;
      sockaddr_in from{};
      from.sin_family = AF_INET;
      const std::size_t number = next_++ % 10000;
      from.sin_addr.s_addr =
          htonl(0x7f420001 + static_cast<std::uint32_t>(number / 250 * 256 + number % 250));
      (void)::bind(made, reinterpret_cast<const sockaddr*>(&from), sizeof from);
      open_.push_back(made);
    }
  }
  void connect() {
    for (; connected_ < open_.size(); ++connected_) {
      (void)::connect(open_[connected_], reinterpret_cast<const sockaddr*>(&to_), sizeof to_);
    }
  }
  // A byte on each; those that the server ended are gone then.
  void whisper(Sent& sent) {
    std::size_t stay = 0;
    for (const int each : open_) {
      const char byte = 0;
      const ssize_t put = ::send(each, &byte, 1, MSG_NOSIGNAL | MSG_DONTWAIT);
      if (put < 0 && errno != EAGAIN && errno != ENOTCONN) {
        ::close(each);
        continue;
      }
      if (put > 0) {
        ++sent.datagrams;
        ++sent.bytes;
      }
      open_[stay++] = each;
    }
    open_.resize(stay);
    connected_ = stay;
  }
  [[nodiscard]] std::size_t size() const { return open_.size(); }

 private:
  sockaddr_in to_{};
  std::vector<int> open_;
  std::size_t connected_ = 0;
  std::size_t next_ = 0;
};

}  // namespace

void whispers(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  Streams streams(target);
  while (!stop) {
    streams.prepare(std::min<std::size_t>(streams.size() + 500, 10000));
    streams.connect();
    streams.whisper(sent);
    for (int i = 0; i < 10 && !stop; ++i) std::this_thread::sleep_for(20ms);
  }
}

void no_descriptors(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  // The sockets are there before the limit falls to what is open now: accept() has none left. The
  // limit is of the process, so the siege opens the sockets of its newcomers beforehand, too.
  Streams streams(target);
  streams.prepare(400);
  rlimit before{};
  ::getrlimit(RLIMIT_NOFILE, &before);
  rlimit now = before;
  const int lowest = ::dup(0);  // the first free descriptor
  ::close(lowest);
  now.rlim_cur = static_cast<rlim_t>(lowest);
  ::setrlimit(RLIMIT_NOFILE, &now);
  streams.connect();
  while (!stop) {
    std::this_thread::sleep_for(100ms);
    ++sent.datagrams;
  }
  ::setrlimit(RLIMIT_NOFILE, &before);
}

}  // namespace kwind::siege_bench
