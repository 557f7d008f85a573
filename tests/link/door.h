// A listener, and clients that talk to it by hand: what the tests of handshakes, tickets and resuming
// share.
#pragma once
#include <gtest/gtest.h>

#include <array>
#include <optional>
#include <string>

#include "kit/promises.h"

namespace kwind::kit {

using namespace std::chrono_literals;

struct Gate final : link::TicketGate {
  Result<link::Claims> check(std::string_view ticket, std::int64_t now) const override {
    if (ticket == "forged") return fail(Errc::ticket_invalid);
    const std::int64_t expires = 1000000 + 60;
    if (now > expires) return fail(Errc::ticket_expired);
    return link::Claims{"pilot " + std::string(ticket), std::string(ticket), expires, "{}"};
  }
  [[nodiscard]] bool may_resume(const link::Claims& claims) const override {
    return claims.subject != banned;
  }
  std::string banned;
};

// A listener, and clients that talk to it by hand.
class Door : public testing::Test {
 protected:
  static inline Time clock_{};  // what tickets expire by
  static link::ListenerOptions options() {
    link::ListenerOptions options{test_identity(), secret_of(9), 2, 0};
    options.key = server_key();
    options.unix_now = [] {  // at(1000s) is a million
      return std::int64_t{1000000 - 2000} +
             std::chrono::floor<std::chrono::seconds>(clock_.time_since_epoch()).count();
    };
    return options;
  }
  link::Link client(std::uint64_t seed, const std::string& ticket = {},
                    link::Identity identity = test_identity()) {
    link::ConnectOptions who{std::move(identity), secret_of(seed)};
    who.server_key = server_key().public_key;
    who.ticket = ticket;
    who.resume = resume_;
    link::LinkOptions link_options;
    link_options.channels = {{Delivery::ordered}};
    link_options.tags = 1;
    return link::Link::connect(who, link_options, at(0s));
  }
  link::Listener::Outcome knock(link::Link& who, Time now, const Endpoint& from) {
    clock_ = now;
    size_ = who.poll_datagram(now, datagram_);
    EXPECT_EQ(size_, link::kBaseDatagramBytes);
    const auto outcome = listener_.receive(now, from, std::span(datagram_).first(size_), reply_);
    EXPECT_LE(outcome.reply_bytes, size_) << "amplification";
    return outcome;
  }
  std::span<const std::byte> reply(const link::Listener::Outcome& outcome) {
    return std::span(reply_).first(outcome.reply_bytes);
  }
  // Hello, cookie, connect; the answer is given to the client.
  link::Listener::Exchanged enter(link::Link& who, Time now, const Endpoint& from) {
    const auto cookie = knock(who, now, from);
    EXPECT_EQ(cookie.error, Errc::none);
    EXPECT_EQ(cookie.reply_bytes, 27U);
    EXPECT_EQ(who.receive(now, reply(cookie)), Errc::none);
    const auto offered = knock(who, now, from);
    auto done = listener_.exchange(now, reply_);
    if (!done) {
      done = {from, 0, link::TransportKind::datagrams, offered.error, offered.reply_bytes, {}};
    } else {
      EXPECT_EQ(offered.error, Errc::none);
      EXPECT_EQ(offered.reply_bytes, 0U) << "the answer comes with the key exchange";
      EXPECT_LE(done->reply_bytes, size_) << "amplification";
    }
    EXPECT_EQ(who.receive(now, std::span(reply_).first(done->reply_bytes)), Errc::none);
    return *done;
  }
  // The first datagram of a client that heard its answer.
  std::optional<link::Listener::Admitted> go_on(link::Link& who, Time now, std::size_t port = 0) {
    clock_ = now;
    std::array<std::byte, link::kMaxDatagramBytes> data{};
    const std::size_t size = who.poll_datagram(now, data);
    EXPECT_GT(size, 0U);
    return listener_.admit(now, port, std::span(data).first(size));
  }
  // All of it: the connection, or why it may not be.
  link::Listener::Admitted connect(link::Link& who, Time now, const Endpoint& from) {
    const auto done = enter(who, now, from);
    if (!done.attempt) return {done.error, {}};
    const auto admitted = go_on(who, now);
    EXPECT_TRUE(admitted);
    return admitted ? *admitted : link::Listener::Admitted{Errc::unexpected, {}};
  }
  static std::string end_of(link::Link& who) {
    std::string end;
    while (const auto event = who.poll_event()) {
      if (event->kind == link::Event::Kind::opened) end += "opened ";
      if (event->kind == link::Event::Kind::closed) {
        end += std::string(error_info(event->code).name) + ": " + std::string(event->text);
      }
    }
    return end;
  }
  std::string enter_and_tell(std::uint64_t seed, const std::string& ticket, Time now) {
    link::Link who = client(seed, ticket);
    last_ = connect(who, now, a_);
    return end_of(who);
  }

  Gate gate_;
  link::Listener listener_{options()};
  std::optional<Secret32> resume_;
  link::Listener::Admitted last_;
  const Endpoint a_ = Endpoint::v4(127, 0, 0, 1, 1000);
  const Endpoint b_ = Endpoint::v4(127, 0, 0, 2, 1001);
  std::array<std::byte, link::kMaxDatagramBytes> datagram_{};
  std::array<std::byte, link::kBaseDatagramBytes> reply_{};
  std::size_t size_ = 0;
};

}  // namespace kwind::kit
