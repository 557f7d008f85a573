// Step 2, requests and rooms: passengers ask for a berth, and the car deck has one only. Who is on
// a deck hears what is said there.
#include <fmt/format.h>

#include "ferry.h"
#include "kwind/io/clock.h"
#include "kwind/kwind.h"

using namespace std::chrono_literals;
using ferry::Board;
using ferry::BoardRefusal;

int main() {
  auto opened = kwind::Server::open(ferry::kProtocol, {.listen = {"127.0.0.1:0"}});
  if (!opened) {
    fmt::print(stderr, "{}\n", opened.error().text);
    return 1;
  }
  kwind::Server& server = **opened;
  std::int32_t berths = 0;
  bool car_aboard = false;
  server.on_request<Board>(
      [&](kwind::Peer from, const Board& ask, kwind::route::Responder<Board> responder) {
        if (ask.car && car_aboard) {
          (void)responder.refuse(BoardRefusal::full, "the car deck has one berth");
          return;
        }
        car_aboard = car_aboard || ask.car;
        server.rooms().enter(from, ask.car ? "car deck" : "sun deck");
        (void)responder.reply({.berth = ++berths});
        server.send_to_room("sun deck", ferry::Heard{1, fmt::format("{} aboard", berths)});
      });

  int outcomes = 0;
  std::vector<std::unique_ptr<kwind::Client>> clients;
  for (const char* const name : {"Ada", "Ben", "Cay"}) {
    auto client = kwind::Client::open(
        ferry::kProtocol, {.server = server.address().text(), .server_key = server.public_key()});
    if (!client) {
      fmt::print(stderr, "{}\n", client.error().text);
      return 1;
    }
    (*client)->on<ferry::Heard>([name](const ferry::Heard& message) {
      fmt::print("{} hears on the sun deck: {}\n", name, message.words);
    });
    clients.push_back(std::move(*client));
  }
  // Each request has one outcome: a reply, a refusal, or the reason why neither came.
  const auto board = [&](std::size_t who, const char* name, bool car) {
    return clients[who]->request(Board{car}, 2s,
                                 [name, &outcomes](const kwind::route::Outcome<Board>& outcome) {
                                   ++outcomes;
                                   if (outcome) {
                                     fmt::print("{} has berth {}\n", name, outcome.reply.berth);
                                   } else {
                                     fmt::print("{} stays ashore: {}\n", name, outcome.words);
                                   }
                                 });
  };

  // One after another, so that the output is the same in each run.
  int asked = 0;
  for (const kwind::Time end = kwind::io::now() + 5s; outcomes < 3 && kwind::io::now() < end;) {
    server.step(kwind::io::now());
    for (const auto& client : clients) client->step(kwind::io::now());
    if (asked == outcomes && asked < 3 && clients[std::size_t(asked)]->connected()) {
      const char* const names[] = {"Ada", "Ben", "Cay"};
      if (board(std::size_t(asked), names[asked], asked > 0) == kwind::Errc::none) ++asked;
    }
    server.wait(5ms);
  }
  return outcomes == 3 ? 0 : 1;
}
