// Step 1, messages: two passengers hail, and each hears the other one.
#include <fmt/format.h>

#include "ferry.h"
#include "kwind/io/clock.h"
#include "kwind/kwind.h"

using namespace std::chrono_literals;

int main() {
  // Port 0: the system chooses one.
  auto opened = kwind::Server::open(ferry::kProtocol, {.listen = {"127.0.0.1:0"}});
  if (!opened) {
    fmt::print(stderr, "{}\n", opened.error().text);
    return 1;
  }
  kwind::Server& server = **opened;
  server.on<ferry::Hail>([&](kwind::Peer from, const ferry::Hail& hail) {
    const auto passenger = static_cast<std::int32_t>(server.slot(from));
    server.send_to_all_but(from, ferry::Heard{passenger, hail.words});
  });

  int heard = 0;
  std::vector<std::unique_ptr<kwind::Client>> clients;
  for (const char* const name : {"Ada", "Ben"}) {
    auto client = kwind::Client::open(
        ferry::kProtocol, {.server = server.address().text(), .server_key = server.public_key()});
    if (!client) {
      fmt::print(stderr, "{}\n", client.error().text);
      return 1;
    }
    (*client)->on<ferry::Heard>([name, &heard](const ferry::Heard& message) {
      fmt::print("{} hears: {}\n", name, message.words);
      ++heard;
    });
    clients.push_back(std::move(*client));
  }

  bool hailed = false;
  for (const kwind::Time end = kwind::io::now() + 5s; heard < 2 && kwind::io::now() < end;) {
    server.step(kwind::io::now());
    for (const auto& client : clients) client->step(kwind::io::now());
    if (!hailed && clients[0]->connected() && clients[1]->connected()) {
      hailed = clients[0]->send(ferry::Hail{"a gull took my bread"}) == kwind::Errc::none &&
               clients[1]->send(ferry::Hail{"which one?"}) == kwind::Errc::none;
    }
    server.wait(5ms);
  }
  return heard == 2 ? 0 : 1;
}
