// A pier for pages: serves the page, its script and the web socket from one port.
// Usage: web_pier_server [HOST:PORT [FOLDER]]; FOLDER holds index.html and the scripts.
#include <fmt/format.h>

#include <algorithm>
#include <fstream>
#include <iterator>
#include <map>

#include "kwind/io/udp_transport.h"
#include "kwind/kwind.h"
#include "kwind/web/web_socket_transport.h"
#include "pier.h"

namespace {

// Read on each request: a page that was edited needs no restart of the server.
std::optional<kwind::web::Page> file(const std::string& path, const char* type) {
  std::ifstream in(path, std::ios::binary);
  if (!in) return std::nullopt;
  return kwind::web::Page{type, std::string(std::istreambuf_iterator<char>(in), {})};
}

// The page and its scripts, by the path of their URL.
std::optional<kwind::web::Page> page(const std::string& folder, std::string_view path) {
  if (path == "/") return file(folder + "/index.html", "text/html; charset=utf-8");
  for (const char* script : {"/page.js", "/pier.js", "/kestrel-wind.js"}) {
    if (path == script) return file(folder + script, "text/javascript");
  }
  return std::nullopt;
}

}  // namespace

int main(int argc, char** argv) {
  const std::string address = argc > 1 ? argv[1] : "127.0.0.1:8080";
  const std::string folder = argc > 2 ? argv[2] : ".";
  const auto local = kwind::io::resolve(address);
  auto server = kwind::Server::open(pier::kProtocol, {.listen = {"127.0.0.1:0"}});
  if (!local || !server) {
    fmt::print(stderr, "{}\n", server ? "the address is HOST:PORT" : server.error().text);
    return 1;
  }

  kwind::web::WebSocketOptions web;
  web.pages = [&](std::string_view path) -> std::optional<kwind::web::Page> {
    if (path == "/key") return kwind::web::Page{"text/plain", (*server)->public_key()};
    return page(folder, path);
  };
  auto transport = kwind::web::WebSocketTransport::listen(*local, web);
  if (!transport) {
    fmt::print(stderr, "cannot listen on {}: {}\n", address,
               kwind::error_info(transport.error()).text);
    return 1;
  }
  (*server)->add_transport(std::move(*transport));

  kwind::Replication state(**server, pier::kEntities, {.view = {.enter = 100, .leave = 110}});
  std::map<kwind::Peer, kwind::Entity<pier::Walker>> walkers;
  state.on_client([&](kwind::ClientView& view) {
    const auto number = static_cast<unsigned>(view.peer());
    const auto made = state.spawn(pier::Walker{fmt::format("Walker {}", number), {32, 32}});
    if (!made) return;
    walkers.emplace(view.peer(), *made);
    view.follow(*made);
  });
  (*server)->on_disconnect([&](kwind::Peer peer, kwind::Errc, std::string_view) {
    if (const auto found = walkers.find(peer); found != walkers.end()) {
      found->second.despawn();
      walkers.erase(found);
    }
  });
  // A step is an order, not a place: the server moves the walker and keeps it on the pier.
  (*server)->on<pier::Step>([&](kwind::Peer peer, const pier::Step& step) {
    const auto found = walkers.find(peer);
    if (found == walkers.end()) return;
    pier::Walker walker = found->second.get();
    walker.at += Eigen::Vector2d(step.east, step.north) / 4;
    walker.at = walker.at.cwiseMax(0).cwiseMin(63.9);
    found->second.set(walker);
  });
  (*server)->on<pier::Say>([&](kwind::Peer peer, const pier::Say& say) {
    const auto found = walkers.find(peer);
    if (found != walkers.end()) {
      (*server)->send_to_all(pier::Said{found->second.get().name, say.words});
    }
  });
  fmt::print("open http://{}/\n", (*server)->address(1).text());
  std::fflush(stdout);
  (*server)->run();
}
