// Attackers with a connection. An Insider takes the keys of a connection that a real client opened,
// and then writes datagrams of its own: a modified client can do no more.
#include <algorithm>
#include <optional>
#include <thread>
#include <utility>

#include "attack.h"
#include "link/datagram/aead.h"
#include "link/datagram/data_header.h"

namespace kwind::siege_bench {
namespace {

constexpr unsigned kLive = 0;  // channels, as siege.kw has them
constexpr unsigned kChannelBits = 1;
constexpr std::uint64_t kFirstForged = 1000;  // above what the real client sent

class Insider {
 public:
  /// Opens a connection; not open() if the server let none in, or `stop` came.
  Insider(io::UdpTransport& transport, const Target& target, const std::atomic<bool>& stop,
          Sent& sent)
      : transport_(transport), server_(target.udp), sent_(sent) {
    host::ClientOptions who;
    who.server_key = target.key;
    who.aes = false;
    who.key_log = [this](const link::KeyNote& note) {
      if (!note.up) return;
      id_ = note.id;
      Secret32 key;
      std::copy(note.key.begin(), note.key.end(), key.bytes().begin());
      key_.emplace(link::Cipher::chacha20_poly1305, key);
    };
    host::Client client(transport, server_, siege::kProtocol, io::now(), who);
    const Time until = io::now() + 3s;
    while (!stop && io::now() < until && !client.connected() && !client.ended()) {
      client.receive(io::now());
      client.flush(io::now());
      transport.wait(io::now() + 2ms);
    }
    client.flush(io::now());
    is_open_ = client.connected() && key_;
    transport.wait(io::now() + 5ms);
    // Its destructor does not tell the server: the connection is the insider's from here on.
  }
  [[nodiscard]] bool is_open() const { return is_open_; }

  /// The frames, or ack block, in `body`, sealed as the client's next datagram.
  void send(const std::function<void(bits::Writer&)>& body, bool acks = false) {
    send_from(transport_, body, acks);
  }
  void send_from(io::UdpTransport& from, const std::function<void(bits::Writer&)>& body,
                 bool acks = false) {
    std::array<std::byte, link::kBaseDatagramBytes> memory{};
    bits::Writer out{std::span(memory).first(memory.size() - link::Aead::kTagBytes)};
    link::DataHeader header;
    header.has_acks = acks;
    header.wide = true;
    header.id = id_;
    header.number_low = number_ & 0xffff;
    const std::size_t head = write(header, true, out);
    body(out);
    const std::size_t size = out.finish();
    key_->seal(number_++, std::span(memory).first(head),
               std::span(memory).subspan(head, size - head),
               std::span(memory).subspan(size).first<link::Aead::kTagBytes>());
    put(from, server_, std::span(memory).first(size + link::Aead::kTagBytes), sent_);
  }
  void flush_and_drain() {
    transport_.flush(io::now());
    drain(transport_, sent_);
  }

  static void ping(bits::Writer& out) { out.put(3U << 1, 6); }

 private:
  io::UdpTransport& transport_;
  Endpoint server_;
  Sent& sent_;
  link::ConnectionId id_{};
  std::optional<link::Aead> key_;
  std::uint64_t number_ = kFirstForged;
  bool is_open_ = false;
};

// One insider after the other calls `act` until `stop`. The server says nothing to the datagrams of
// a connection that it ended, so each insider stays two seconds at most.
void as_insider(const Target& target, const std::atomic<bool>& stop, Sent& sent,
                const std::function<void(Insider&)>& act) {
  const auto transports = sockets(64);
  for (std::size_t turn = 0; !stop; ++turn) {
    io::UdpTransport& transport = *transports[turn % transports.size()];
    Insider insider(transport, target, stop, sent);
    if (!insider.is_open()) {
      std::this_thread::sleep_for(10ms);
      continue;
    }
    for (const Time until = io::now() + 2s; !stop && io::now() < until;) {
      act(insider);
      insider.flush_and_drain();
    }
  }
}

// Hosts as they are, that ask for more than their share.
class Crowd {
 public:
  Crowd(const Target& target, std::size_t count) : transports_(sockets(count)) {
    for (const auto& transport : transports_) {
      host::ClientOptions who;
      who.server_key = target.key;
      clients_.push_back(
          std::make_unique<host::Client>(*transport, target.udp, siege::kProtocol, io::now(), who));
    }
  }
  void turn(Sent& sent, const std::function<void(host::Client&)>& act) {
    std::uint64_t datagrams = 0;
    std::uint64_t bytes = 0;
    std::uint64_t answered = 0;
    for (const auto& client : clients_) {
      client->receive(io::now());
      if (client->connected()) act(*client);
      client->flush(io::now());
      datagrams += client->stats().datagrams_sent;
      bytes += client->stats().bytes_sent;
      answered += client->stats().bytes_received;
    }
    sent.datagrams += datagrams - std::exchange(datagrams_, datagrams);
    sent.bytes += bytes - std::exchange(bytes_, bytes);
    sent.answered += answered - std::exchange(answered_, answered);
  }

 private:
  std::vector<std::unique_ptr<io::UdpTransport>> transports_;
  std::vector<std::unique_ptr<host::Client>> clients_;
  // As counted at the turn before: other attacks may add to the same figures.
  std::uint64_t datagrams_ = 0;
  std::uint64_t bytes_ = 0;
  std::uint64_t answered_ = 0;
};

// Keeps what passes.
class Recorder final : public Transport {
 public:
  explicit Recorder(Transport& inner) : inner_(inner) {}
  [[nodiscard]] Endpoint local() const override { return inner_.local(); }
  std::optional<ReceivedDatagram> receive(Time now) override { return inner_.receive(now); }
  void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) override {
    if (seen_.size() == kKept) seen_.erase(seen_.begin());
    seen_.emplace_back(bytes.begin(), bytes.end());
    inner_.send(now, to, bytes);
  }
  void flush(Time now) override { inner_.flush(now); }
  [[nodiscard]] const TransportCounts& counts() const override { return inner_.counts(); }
  [[nodiscard]] const std::vector<std::vector<std::byte>>& seen() const { return seen_; }

 private:
  static constexpr std::size_t kKept = 64;
  Transport& inner_;
  std::vector<std::vector<std::byte>> seen_;
};

}  // namespace

void greedy_client(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  class Noise final : public link::PayloadSource {
   public:
    std::optional<std::uint64_t> fill(Time, bits::Writer& out) override {
      while (out.room_bits() >= 64) out.put(0x5a5a5a5a5a5a5a5aU, 64);
      return ++frames_;
    }
    std::uint64_t frames_ = 0;
  };
  Crowd crowd(target, 1);
  Noise noise;
  while (!stop) {
    crowd.turn(sent, [&](host::Client& client) {
      for (int i = 0; i < 200; ++i) (void)client.send(siege::Stamp{no_time()});
      client.schedule_payload(&noise, 100);
    });
  }
}

void copies(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  const auto transports = sockets(2);
  Recorder recorder(*transports[0]);
  host::ClientOptions who;
  who.server_key = target.key;
  host::Client client(recorder, target.udp, siege::kProtocol, io::now(), who);
  while (!stop) {
    client.receive(io::now());
    if (client.connected()) (void)client.send(siege::Stamp{no_time()});
    client.flush(io::now());
    for (const auto& transport : transports) {
      for (const auto& datagram : recorder.seen()) put(*transport, target.udp, datagram, sent);
      transport->flush(io::now());
    }
    drain(*transports[1], sent);
  }
}

void never_acknowledge(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  const auto transports = sockets(10);
  std::vector<std::unique_ptr<Insider>> insiders;
  while (!stop) {
    if (insiders.size() < transports.size()) {
      insiders.push_back(
          std::make_unique<Insider>(*transports[insiders.size()], target, stop, sent));
      if (!insiders.back()->is_open()) insiders.pop_back();
    }
    for (const auto& insider : insiders) {
      insider->send(Insider::ping);
      insider->flush_and_drain();
    }
    std::this_thread::sleep_for(20ms);
  }
}

void acknowledge_unseen(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  const auto transports = sockets(1000);
  for (std::size_t turn = 0; !stop; ++turn) {
    Insider insider(*transports[turn % transports.size()], target, stop, sent);
    if (!insider.is_open()) continue;
    insider.send(
        [](bits::Writer& out) {
          out.put(2, 2);  // 16 bits of a number that is far ahead, and no range behind it
          out.put(60000, 16);
          out.put(0, 4);
          out.put_count(0, 0);
          out.put_count(0, 2);
        },
        true);
    insider.flush_and_drain();
  }
}

void desync_reports(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  unsigned number = 0;
  as_insider(target, stop, sent, [&](Insider& insider) {
    insider.send([&](bits::Writer& out) {
      for (int i = 0; i < 50; ++i) {
        out.put(2U << 1, 3);  // a payload: resync request
        out.put_count(9, 6);
        out.put(3, 2);
        out.put(++number & 0x7f, 7);
        out.put(2U << 1, 3);  // a payload: desync report of the first entity, wrong in a column
        out.put_count(40, 6);
        out.put(1, 2);
        out.put(1, 1);
        out.put_count(0, 3);
        out.put(0, 4);
        out.put(number & 0xffff, 16);
        out.put_count(1, 3);
        out.put(0x5a, 8);
        out.put(0, 1);
      }
    });
  });
}

void first_pieces(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  as_insider(target, stop, sent, [](Insider& insider) {
    insider.send([](bits::Writer& out) {
      for (unsigned place = 0; place < 12; ++place) {
        out.put(1U << 1, 3);
        out.put(kLive, kChannelBits);
        out.put_count(0, 1);
        out.put_count(place, 0);
        out.put_count(std::uint64_t{60000} * 8, 10);
        out.put_count(0, 4);
        out.put_count(0, 3);
        for (int i = 0; i < 64; ++i) out.put(0x5a, 8);
      }
    });
  });
}

void thousand_requests(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  Crowd crowd(target, 16);
  while (!stop) {
    crowd.turn(sent, [](host::Client& client) {
      for (int i = 0; i < 64; ++i) {
        const Errc error =
            client.request(siege::Tide{3}, 5s, [](const route::Outcome<siege::Tide>&) {});
        if (error != Errc::none) break;
      }
    });
    std::this_thread::sleep_for(200us);
  }
}

void unseen_references(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  Crowd crowd(target, 1);
  std::uint32_t next = 0;
  while (!stop) {
    crowd.turn(sent, [&](host::Client& client) {
      for (int i = 0; i < 100; ++i, ++next) {
        (void)client.send(siege::Mark{{next % 200, static_cast<std::uint8_t>(next / 200 % 16)}});
      }
    });
  }
}

void address_moves(const Target& target, const std::atomic<bool>& stop, Sent& sent) {
  const auto transports = sockets(17);
  for (std::size_t turn = 0; !stop;) {
    Insider insider(*transports[0], target, stop, sent);
    for (const Time until = io::now() + 3s; insider.is_open() && !stop && io::now() < until;) {
      io::UdpTransport& from = *transports[1 + turn++ % 16];
      insider.send_from(from, Insider::ping);
      from.flush(io::now());
      drain(from, sent);
      drain(*transports[0], sent);
    }
  }
}

}  // namespace kwind::siege_bench
