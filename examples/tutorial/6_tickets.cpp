// Step 6, tickets: the login service signs who a player is, and the server lets nobody else in.
#include <fmt/format.h>

#include <chrono>

#include "ferry.h"
#include "kwind/io/clock.h"
#include "kwind/kwind.h"
#include "kwind/ticket/ticket.h"

using namespace std::chrono_literals;

// What the login service does once it knows who someone is. It holds the signing key.
std::string sell_ticket(const kwind::ticket::SigningKey& key, const kwind::link::PublicKey& server,
                        const std::string& name) {
  static int sold = 0;
  const auto now = std::chrono::system_clock::to_time_t(std::chrono::system_clock::now());
  const auto ticket = kwind::ticket::issue({.subject = name,
                                            .id = fmt::format("{}-{}", now, ++sold),
                                            .expires = now + 60,
                                            .audience = kwind::link::key_text(server)},
                                           key);
  return ticket ? *ticket : std::string();
}

int main() {
  const auto signing = kwind::ticket::SigningKey::from_seed(kwind::io::random_secret());
  const auto server_key = kwind::link::KeyPair::from_secret(kwind::io::random_secret());
  // The server holds the half of the key that checks, and cannot make tickets.
  const kwind::ticket::Gate gate(signing.verify, server_key.public_key);
  kwind::ServerOptions options{.listen = {"127.0.0.1:0"}};
  options.host.key = server_key;
  options.host.gate = &gate;
  auto opened = kwind::Server::open(ferry::kProtocol, options);
  if (!opened) {
    fmt::print(stderr, "{}\n", opened.error().text);
    return 1;
  }
  kwind::Server& server = **opened;
  server.on_connect(
      [&](kwind::Peer peer) { fmt::print("{} is aboard\n", server.claims(peer)->subject); });

  int ends = 0;
  const auto come = [&](const std::string& ticket) {
    auto client = kwind::Client::open(ferry::kProtocol, {.server = server.address().text(),
                                                         .server_key = server.public_key(),
                                                         .reconnect = false,
                                                         .ticket = [ticket] { return ticket; }});
    if (!client) return;
    (*client)->on_connect([&] { ++ends; });
    (*client)->on_disconnect([&](kwind::Errc code, std::string_view reason) {
      ++ends;
      fmt::print("refused: {}\n", kwind::host::explain_end(code, reason));
    });
    const int before = ends;
    for (const kwind::Time end = kwind::io::now() + 5s; ends == before && kwind::io::now() < end;) {
      server.step(kwind::io::now());
      (*client)->step(kwind::io::now());
      server.wait(5ms);
    }
    // The server announces who came with its next steps.
    for (int i = 0; i < 20; ++i) {
      server.step(kwind::io::now());
      (*client)->step(kwind::io::now());
      server.wait(5ms);
    }
  };
  const std::string ticket = sell_ticket(signing, server_key.public_key, "Ada");
  come(ticket);
  come(ticket);  // a ticket counts once
  const auto forger = kwind::ticket::SigningKey::from_seed(kwind::io::random_secret());
  come(sell_ticket(forger, server_key.public_key, "Ada"));
  return ends == 3 ? 0 : 1;
}
