// A WebTransport server on a simulated network, in virtual time, against a client by ngtcp2 and
// against raw packets.
#include "kwind/web_transport/web_transport_server.h"

#include <gtest/gtest.h>

#include <random>

#include "kit/promises.h"
#include "kwind/io/clock.h"
#include "kwind/io/sim/network.h"
#include "kwind/io/udp_transport.h"
#include "web_transport/quic_client.h"

namespace kwind::web {
namespace web_transport_test {

using namespace std::chrono_literals;
using kit::at;

// The server owns its transport; the network owns this one. A process that is killed sends nothing
// any more.
class Borrowed final : public Transport {
 public:
  explicit Borrowed(Transport& inner,
                    std::shared_ptr<bool> is_killed = std::make_shared<bool>(false))
      : inner_(inner), is_killed_(std::move(is_killed)) {}
  [[nodiscard]] Endpoint local() const override { return inner_.local(); }
  std::optional<ReceivedDatagram> receive(Time now) override { return inner_.receive(now); }
  void send(Time now, const Endpoint& to, std::span<const std::byte> bytes) override {
    if (!*is_killed_) inner_.send(now, to, bytes);
  }
  void flush(Time now) override {
    if (!*is_killed_) inner_.flush(now);
  }
  [[nodiscard]] const TransportCounts& counts() const override { return inner_.counts(); }

 private:
  Transport& inner_;
  std::shared_ptr<bool> is_killed_;
};

std::span<const std::byte> bytes_of(std::string_view text) {
  return std::as_bytes(std::span(text));
}
std::string text_of(std::span<const std::byte> bytes) {
  return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

class Quay : public testing::Test {
 protected:
  static constexpr Endpoint kServer = Endpoint::v4(10, 0, 0, 1, 443);

  void listen(const WebTransportOptions& options = {}) {
    auto made = WebTransportServer::listen_over(
        std::make_unique<Borrowed>(network_.open(kServer), is_killed_), options);
    ASSERT_TRUE(made.has_value());
    server_ = std::move(*made);
  }
  std::unique_ptr<QuicClient> client(std::uint8_t host, std::uint16_t port = 5000) {
    return std::make_unique<QuicClient>(network_.open(Endpoint::v4(10, 0, 1, host, port)), kServer,
                                        now_);
  }
  void turn(std::initializer_list<QuicClient*> clients) {
    for (QuicClient* each : clients) each->turn(now_);
    while (const auto datagram = server_->receive(now_)) {
      got_.emplace_back(datagram->from, text_of(datagram->bytes));
    }
    while (const auto ended = server_->take_ended()) ended_.push_back(*ended);
    server_->flush(now_);
    now_ += 1ms;
  }
  void run(Duration time, std::initializer_list<QuicClient*> clients) {
    for (const Time end = now_ + time; now_ < end;) turn(clients);
  }
  // A client with an open session, and its stream.
  std::pair<std::unique_ptr<QuicClient>, std::int64_t> visitor(std::uint8_t host,
                                                               std::uint16_t port = 5000) {
    auto made = client(host, port);
    for (int i = 0; i < 300 && !made->is_connected; ++i) turn({made.get()});
    EXPECT_TRUE(made->is_connected);
    const std::int64_t session = made->request({});
    run(50ms, {made.get()});
    EXPECT_EQ(made->status(session), "200");
    return {std::move(made), session};
  }
  const WebTransportCounts& counts() { return server_->web_transport_counts(); }

  io::sim::Network network_{[] {
                              io::sim::Conditions path;
                              path.delay = 5ms;
                              return path;
                            }(),
                            1};
  Time now_ = at(100s);
  std::shared_ptr<bool> is_killed_ = std::make_shared<bool>(false);
  std::unique_ptr<WebTransportServer> server_;
  std::vector<std::pair<Endpoint, std::string>> got_;
  std::vector<Endpoint> ended_;
};

TEST_F(Quay, ASessionCarriesDatagramsBothWays) {
  listen();
  auto [page, session] = visitor(1);
  EXPECT_EQ(counts().retries, 1U) << "the address has to prove itself";
  EXPECT_EQ(counts().opened, 1U);
  for (int i = 0; i < 100; ++i) page->send_datagram(session, "up " + std::to_string(i));
  page->send_datagram(session, std::string(1150, 'x'));
  run(100ms, {page.get()});
  ASSERT_EQ(got_.size(), 101U);
  EXPECT_EQ(got_[7].second, "up 7");
  EXPECT_EQ(got_[100].second.size(), 1150U);
  const Endpoint peer = got_[0].first;
  EXPECT_EQ(peer, Endpoint::v4(10, 0, 1, 1, 5000));
  for (int i = 0; i < 40; ++i) server_->send(now_, peer, bytes_of("down " + std::to_string(i)));
  run(100ms, {page.get()});
  ASSERT_EQ(page->datagrams.size(), 40U);
  EXPECT_EQ(QuicClient::payload(page->datagrams[39], session), "down 39");
  EXPECT_EQ(server_->counts().datagrams_sent, 40U);
  EXPECT_EQ(server_->counts().datagrams_received, 101U);
}

TEST_F(Quay, OneThatIsWrongGetsTheStatusThatFits) {
  listen({.origins = {"https://harbour.example"}});
  const auto answer = [&](std::uint8_t host, const TestRequest& request) {
    auto page = client(host);
    for (int i = 0; i < 300 && !page->is_connected; ++i) turn({page.get()});
    const std::int64_t id = page->request(request);
    run(100ms, {page.get()});
    const std::string status = page->status(id);
    if (status != "200") {
      EXPECT_TRUE(page->has_fin[id]);
      run(1s, {page.get()});
      EXPECT_TRUE(page->is_over) << "a refused connection is closed";
    }
    return status;
  };
  EXPECT_EQ(answer(1, {.path = "/elsewhere"}), "404");
  EXPECT_EQ(answer(2, {.path = "/kwind?seat=7"}), "200");
  EXPECT_EQ(answer(3, {.origin = "https://elsewhere.example"}), "403");
  EXPECT_EQ(answer(4, {.origin = "https://harbour.example"}), "200");
  EXPECT_EQ(answer(5, {.authority = "10.0.0.1:443", .origin = "http://10.0.0.1:443"}), "200");
  EXPECT_EQ(answer(6, {.method = "GET", .protocol = ""}), "400");
  EXPECT_EQ(answer(7, {.protocol = "websocket"}), "400");
  EXPECT_EQ(answer(8, {.scheme = "http"}), "400");
  EXPECT_EQ(counts().not_found, 1U);
  EXPECT_EQ(counts().bad_origins, 1U);
  EXPECT_EQ(counts().bad_requests, 3U);
}

TEST_F(Quay, ASecondSessionOnOneConnectionIsRefused) {
  listen();
  auto [page, session] = visitor(1);
  const std::int64_t second = page->request({});
  run(100ms, {page.get()});
  EXPECT_EQ(page->status(second), "400");
  page->send_datagram(session, "still here");
  page->send_datagram(second, "stray");
  run(500ms, {page.get()});
  ASSERT_EQ(got_.size(), 1U);
  EXPECT_EQ(counts().stray_datagrams, 1U);
  EXPECT_FALSE(page->is_over);
}

TEST_F(Quay, TheHostHearsOnceThatASessionIsOver) {
  listen();
  auto [closing, first] = visitor(1);
  auto [leaving, second] = visitor(2);
  auto [silent, third] = visitor(3);
  std::string capsule;
  put_varint(capsule, h3::kCloseSession);
  put_varint(capsule, 8);
  closing->send_on(
      first, frame(h3::kData, frame(0x99, "unknown") + capsule + std::string("\0\0\0\7home", 8)));
  run(1s, {closing.get(), leaving.get(), silent.get()});
  EXPECT_EQ(ended_, std::vector{Endpoint::v4(10, 0, 1, 1, 5000)});
  EXPECT_TRUE(closing->is_over) << "the server closes what the browser forgets";
  // The game ends one: it needs no word of it.
  server_->end(Endpoint::v4(10, 0, 1, 2, 5000));
  run(1s, {leaving.get(), silent.get()});
  EXPECT_TRUE(leaving->is_over);
  EXPECT_EQ(ended_.size(), 1U);
  // One is gone without a word: QUIC's idle timeout.
  server_->keep(Endpoint::v4(10, 0, 1, 3, 5000));
  silent->is_silent = true;
  run(20s, {silent.get()});
  EXPECT_EQ(ended_.back(), Endpoint::v4(10, 0, 1, 3, 5000));
  EXPECT_EQ(ended_.size(), 2U);
  EXPECT_EQ(server_->connections(), 0U);
  server_->send(now_, Endpoint::v4(10, 0, 1, 3, 5000), bytes_of("nobody"));
  EXPECT_EQ(server_->counts().send_failures, 1U);
}

TEST_F(Quay, AConnectionWithoutAPeerEndsInTime) {
  listen({.handshake_timeout = 3s});
  auto kept = visitor(1);
  server_->keep(Endpoint::v4(10, 0, 1, 1, 5000));
  auto idle = visitor(2);
  auto asking = client(3);
  run(2500ms, {kept.first.get(), idle.first.get(), asking.get()});
  EXPECT_FALSE(idle.first->is_over);
  EXPECT_EQ(server_->connections(), 3U);
  run(2s, {kept.first.get(), idle.first.get(), asking.get()});
  EXPECT_TRUE(idle.first->is_over);
  EXPECT_TRUE(asking->is_over);
  EXPECT_FALSE(kept.first->is_over);
  EXPECT_EQ(counts().timeouts, 2U);
  EXPECT_EQ(server_->connections(), 1U);
}

TEST_F(Quay, LimitsHoldForAllAndForOneAddress) {
  listen({.connections = 6, .connections_per_address = 2});
  std::vector<std::unique_ptr<QuicClient>> pages;
  // Three of six may be pending, two of one address.
  for (std::uint16_t port = 1; port <= 3; ++port) pages.push_back(client(1, port));
  for (std::uint8_t host = 2; host <= 4; ++host) pages.push_back(client(host));
  for (int i = 0; i < 200; ++i) {
    for (const auto& page : pages) page->turn(now_);
    turn({});
  }
  const auto connected = std::count_if(pages.begin(), pages.end(),
                                       [](const auto& page) { return page->is_connected; });
  EXPECT_EQ(connected, 3);
  EXPECT_FALSE(pages[0]->is_connected && pages[1]->is_connected && pages[2]->is_connected);
  EXPECT_EQ(server_->connections(), 3U);
  EXPECT_GT(counts().turned_away, 0U);
}

TEST_F(Quay, HandshakesHaveABudget) {
  listen({.connections = 1000, .handshakes_per_second = 20});
  std::vector<std::unique_ptr<QuicClient>> pages;
  const auto run_all = [&](Duration time) {
    for (const Time end = now_ + time; now_ < end;) {
      for (const auto& page : pages) page->turn(now_);
      turn({});
    }
    return std::count_if(pages.begin(), pages.end(),
                         [](const auto& page) { return page->is_connected; });
  };
  for (int i = 0; i < 30; ++i) pages.push_back(client(static_cast<std::uint8_t>(10 + i)));
  EXPECT_LE(run_all(200ms), 5 + 4) << "a quarter of a second's worth at once";
  EXPECT_GT(counts().too_many_handshakes, 10U);
  run_all(2s);
  // Within the budget each comes in at once.
  pages.clear();
  for (int i = 0; i < 20; ++i) {
    pages.push_back(client(static_cast<std::uint8_t>(100 + i)));
    EXPECT_EQ(run_all(100ms), i + 1);
  }
}

TEST_F(Quay, ATokenIsGoodForItsAddressAndTenSeconds) {
  listen();
  // A client behind a path that is cut after the Retry.
  auto page = client(1);
  page->turn(now_);
  run(10ms, {});
  EXPECT_EQ(counts().retries, 1U);
  run(12s, {});
  // The client gets the Retry only now, and sends its token too late.
  for (int i = 0; i < 100; ++i) turn({page.get()});
  EXPECT_FALSE(page->is_connected);
  EXPECT_GE(counts().bad_packets, 1U);
  EXPECT_EQ(server_->connections(), 0U);
}

TEST_F(Quay, WhatCongestionControlHoldsBackGivesWayToTheNewest) {
  listen({.idle_timeout = 60s, .unsent_datagrams = 8});
  auto [page, session] = visitor(1);
  const Endpoint peer = Endpoint::v4(10, 0, 1, 1, 5000);
  server_->keep(peer);
  page->is_silent = true;
  for (int i = 0; i < 1000; ++i) {
    server_->send(now_, peer, bytes_of(std::to_string(i) + std::string(1000, 'x')));
    if (i % 20 == 0) turn({page.get()});
  }
  EXPECT_GT(counts().congested, 500U);
  page->is_silent = false;
  run(3s, {page.get()});
  ASSERT_FALSE(page->datagrams.empty());
  EXPECT_EQ(QuicClient::payload(page->datagrams.back(), session).substr(0, 4), "999x");
}

TEST_F(Quay, ADatagramThatFitsInNoPacketIsCounted) {
  listen();
  auto [page, session] = visitor(1);
  const Endpoint peer = Endpoint::v4(10, 0, 1, 1, 5000);
  server_->send(now_, peer, bytes_of(std::string(1472, 'x')));
  server_->send(now_, peer, bytes_of(std::string(1150, 'y')));
  run(50ms, {page.get()});
  ASSERT_EQ(page->datagrams.size(), 1U);
  EXPECT_EQ(counts().too_long, 1U);
  EXPECT_EQ(server_->counts().send_failures, 1U);
}

TEST_F(Quay, AServerThatStartsAgainEndsTheConnectionsOfItsPredecessor) {
  const Secret32 secret = kit::secret_of(5);
  listen({.secret = secret});
  auto [page, session] = visitor(1);
  *is_killed_ = true;  // no close is sent
  server_.reset();
  network_.close(kServer);
  *is_killed_ = false;
  listen({.secret = secret});
  page->send_datagram(session, "are you there?");
  page->turn(now_);
  run(20ms, {});
  const auto answer = page->receive(now_);
  ASSERT_TRUE(answer);
  const std::string token = answer->substr(answer->size() - NGTCP2_STATELESS_RESET_TOKENLEN);
  const auto* const told = ngtcp2_conn_get_remote_transport_params(page->quic);
  EXPECT_EQ(token, std::string(reinterpret_cast<const char*>(told->stateless_reset_token),
                               NGTCP2_STATELESS_RESET_TOKENLEN));
  EXPECT_EQ(counts().resets, 1U);
}

TEST_F(Quay, AServerThatStopsSaysSo) {
  listen();
  auto [page, session] = visitor(1);
  server_.reset();
  now_ += 10ms;
  page->turn(now_);
  EXPECT_TRUE(page->is_over);
}

TEST_F(Quay, UnknownVersionsAreAnsweredWithTheOneThatIsKnown) {
  listen();
  auto& stranger = network_.open(Endpoint::v4(10, 0, 1, 9, 5000));
  std::string packet = "\xc3";
  packet += std::string("\x0a\x0b\x0c\x0d\x08", 5) + "12345678" + "\x08" + "87654321";
  packet.resize(1200, '\0');
  stranger.send(now_, kServer, bytes_of(packet));
  run(20ms, {});
  const auto answer = stranger.receive(now_);
  ASSERT_TRUE(answer);
  EXPECT_EQ(text_of(answer->bytes).substr(1, 4), std::string(4, '\0'));
  EXPECT_EQ(text_of(answer->bytes).substr(answer->bytes.size() - 4), std::string("\0\0\0\1", 4));
  EXPECT_EQ(counts().unknown_versions, 1U);
}

// An answer is shorter than what it answers, and short packets get none.
TEST_F(Quay, ResetsAnswerWithLess) {
  listen();
  auto& stranger = network_.open(Endpoint::v4(10, 0, 1, 9, 5000));
  for (const std::size_t size : {5U, 9U, 21U, 22U, 41U, 60U, 1200U}) {
    stranger.send(now_, kServer, bytes_of("\x40" + std::string(size - 1, 'q')));
    run(20ms, {});
    const auto answer = stranger.receive(now_);
    EXPECT_EQ(answer.has_value(), size >= 22) << size;
    EXPECT_TRUE(!answer || answer->bytes.size() < size) << size;
  }
  for (int i = 0; i < 1000; ++i)
    stranger.send(now_, kServer, bytes_of("\x40" + std::string(99, 'q')));
  run(20ms, {});
  EXPECT_LT(counts().resets, 50U) << "a flood of them is not answered";
}

TEST_F(Quay, TenThousandHostilePacketsLeaveNothingBehind) {
  listen();
  auto [page, session] = visitor(1);
  server_->keep(Endpoint::v4(10, 0, 1, 1, 5000));
  auto& stranger = network_.open(Endpoint::v4(10, 0, 1, 9, 5000));
  auto& helper = network_.open(Endpoint::v4(10, 0, 1, 8, 5000));
  QuicClient model(helper, kServer, now_);
  std::mt19937 random(11);
  std::vector<std::string> seen;
  for (int i = 0; i < 10000; ++i) {
    std::string packet;
    if (random() % 4 == 0 || seen.empty()) {
      packet.resize(1 + random() % 1300);
      for (char& byte : packet) byte = static_cast<char>(random());
      packet[0] = static_cast<char>(packet[0] | (random() % 2 == 0 ? '\xc0' : '\x40'));
    } else {
      packet = seen[random() % seen.size()];
      for (std::size_t flips = random() % 4; flips > 0; --flips) {
        packet[random() % packet.size()] = static_cast<char>(random());
      }
    }
    if (seen.size() < 50) {
      // Real first packets, with other ids.
      std::array<std::uint8_t, 1500> memory{};
      ngtcp2_path_storage path;
      ngtcp2_path_storage_zero(&path);
      ngtcp2_pkt_info info{};
      const auto size = ngtcp2_conn_write_pkt(model.quic, &path.path, &info, memory.data(),
                                              memory.size(), to_quic(now_));
      if (size > 0) seen.emplace_back(reinterpret_cast<const char*>(memory.data()), size);
    }
    stranger.send(now_, kServer, bytes_of(packet));
    if (i % 50 == 0) turn({page.get()});
  }
  run(8s, {page.get()});
  EXPECT_EQ(server_->connections(), 1U);
  EXPECT_GT(counts().bad_packets + counts().retries + counts().resets + counts().unknown_versions,
            5000U);
  page->send_datagram(session, "calm");
  run(50ms, {page.get()});
  ASSERT_FALSE(got_.empty());
  EXPECT_EQ(got_.back().second, "calm");
}

// Streams with nonsense: the connection ends with an error, and nothing else does.
TEST_F(Quay, NonsenseOnStreamsEndsItsConnectionAlone) {
  listen();
  auto [calm, session] = visitor(1);
  std::mt19937 random(12);
  for (std::uint8_t host = 10; host < 40; ++host) {
    auto [page, id] = visitor(host);
    for (int i = 0; i < 20; ++i) {
      std::string bytes;
      for (std::size_t size = random() % 400; size > 0; --size) {
        bytes.push_back(static_cast<char>(random()));
      }
      page->send_on(id, random() % 2 == 0 ? frame(random() % 8, bytes) : bytes);
      page->send_datagram(id, "x");
      turn({page.get(), calm.get()});
    }
    run(50ms, {page.get(), calm.get()});
  }
  calm->send_datagram(session, "calm");
  run(50ms, {calm.get()});
  EXPECT_EQ(got_.back().second, "calm");
  run(20s, {calm.get()});
  EXPECT_LE(server_->connections(), 1U);
}

TEST_F(Quay, ManySessionsOverALossyPath) {
  io::sim::Conditions lossy;
  lossy.delay = 20ms;
  lossy.jitter = 10ms;
  lossy.loss = 0.05;
  listen({.connections_per_address = 100});
  std::vector<std::pair<std::unique_ptr<QuicClient>, std::int64_t>> pages;
  for (std::uint8_t host = 1; host <= 20; ++host) {
    pages.push_back(visitor(host));
    server_->keep(Endpoint::v4(10, 0, 1, host, 5000));
    network_.set_conditions(Endpoint::v4(10, 0, 1, host, 5000), kServer, lossy);
    network_.set_conditions(kServer, Endpoint::v4(10, 0, 1, host, 5000), lossy);
  }
  for (int i = 0; i < 2000; ++i) {
    for (auto& [page, id] : pages) {
      if (i % 16 == 0) page->send_datagram(id, "up");
      page->turn(now_);
    }
    turn({});
  }
  // 125 from each of 20, of which 5 % are lost.
  EXPECT_GT(got_.size(), 2500U * 90 / 100);
  EXPECT_LT(got_.size(), 2500U * 99 / 100);
  EXPECT_EQ(server_->connections(), 20U);
}

TEST(Certificate, CanBeRenewedAndComesFromFiles) {
  std::int64_t today = 1'000'000;
  io::sim::Network network({}, 1);
  WebTransportOptions options;
  options.unix_now = [&] { return today; };
  auto server = WebTransportServer::listen_over(
      std::make_unique<Borrowed>(network.open(Endpoint::v4(10, 0, 0, 1, 443))), options);
  ASSERT_TRUE(server.has_value());
  const auto first = (*server)->certificate_hash();
  EXPECT_EQ((*server)->certificate_expires(), today - 3600 + 13 * 24 * 3600);
  today += 12 * 24 * 3600;
  EXPECT_EQ((*server)->reload_certificate(), Errc::none);
  EXPECT_NE((*server)->certificate_hash(), first);
  EXPECT_EQ((*server)->certificate_expires(), today - 3600 + 13 * 24 * 3600);
  options.certificate_file = "/nowhere.pem";
  options.private_key_file = "/nowhere.key";
  EXPECT_EQ(WebTransportServer::listen(Endpoint::loopback(0), options).error(), Errc::bad_key);
}

// Real sockets: one server on all addresses, a client of each family.
TEST(WebTransportServer, TakesBothFamiliesOnOnePort) {
  auto server = WebTransportServer::listen(Endpoint::any(0));
  ASSERT_TRUE(server.has_value());
  const std::uint16_t port = (*server)->local().port;
  std::size_t families = 0;
  for (const Endpoint& local : {Endpoint::loopback(0), Endpoint::loopback_v6(0)}) {
    auto udp = io::UdpTransport::open(local);
    if (!udp) continue;  // a machine without IPv6
    ++families;
    Endpoint to = local;
    to.port = port;
    QuicClient page(**udp, to, io::now());
    std::int64_t session = -1;
    std::string got;
    for (const Time end = io::now() + 5s; got.empty() && io::now() < end;) {
      page.turn(io::now());
      (*udp)->flush(io::now());
      if (page.is_connected && session < 0) session = page.request({});
      if (session >= 0 && page.status(session) == "200") page.send_datagram(session, "ahoy");
      while (const auto datagram = (*server)->receive(io::now())) {
        EXPECT_EQ(datagram->from.is_v4(), local.is_v4());
        got = text_of(datagram->bytes);
      }
      (*server)->flush(io::now());
      (*server)->wait(io::now() + 1ms);
    }
    EXPECT_EQ(got, "ahoy") << local.text();
  }
  EXPECT_GE(families, 1U);
}

TEST(WebTransportServer, SharesNoPort) {
  const auto first = WebTransportServer::listen(Endpoint::loopback(0));
  ASSERT_TRUE(first.has_value());
  EXPECT_EQ(WebTransportServer::listen((*first)->local()).error(), Errc::address_in_use);
}

}  // namespace web_transport_test
}  // namespace kwind::web
