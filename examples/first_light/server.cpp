// A server for two tugs: it sends the position of each tug to the other one.
// Usage: first_light_server [PORT]
#include <fmt/format.h>

#include <cstdio>
#include <string>

#include "first_light.h"
#include "kwind/kwind.h"

using first_light::Move;
using first_light::Moved;

int main(int argc, char** argv) {
  std::setvbuf(stdout, nullptr, _IOLBF, 0);
  const std::string port = argc > 1 ? argv[1] : "4000";
  auto opened =
      kwind::Server::open(first_light::kProtocol, {.listen = {"127.0.0.1:" + port}, .capacity = 2});
  if (!opened) {
    fmt::print(stderr, "{}\n", opened.error().text);
    return 1;
  }
  kwind::Server& server = **opened;
  server.on_connect([](kwind::Peer tug) { fmt::print("tug {} is here\n", unsigned(tug)); });
  server.on_disconnect([](kwind::Peer tug, kwind::Errc code, std::string_view reason) {
    fmt::print("tug {} is gone: {}\n", unsigned(tug), kwind::host::explain_end(code, reason));
  });
  server.on<Move>([&](kwind::Peer from, const Move& move) {
    server.send_to_all_but(from, Moved{int(server.slot(from)), move.x, move.y});
  });
  fmt::print("listening: first_light_client {} {}\n", server.address().text(), server.public_key());
  server.run();
}
