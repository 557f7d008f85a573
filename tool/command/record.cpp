// `kwind record`: datagrams into a capture, by a packet socket or by standing between the two ends.
#include <fmt/format.h>

#include <memory>
#include <nlohmann/json.hpp>

#include "capture/files.h"
#include "commands.h"
#include "interrupt.h"
#include "kwind/capture/pcapng.h"
#include "kwind/io/clock.h"
#include "kwind/io/sniffer.h"
#include "kwind/json/text.h"
#include "kwind/link/spec.h"
#include "lag/proxy.h"

namespace kwind::tool {
namespace {

struct RecordArguments {
  std::string into;
  int port = 0;
  std::string listen = "127.0.0.1:4100";
  std::string to;
  double seconds = 0;
  bool json = false;
};

// Runs until told to stop; `turn` carries on for at most 50 ms.
int run_until_stopped(const RecordArguments& arguments, CaptureFile& file, std::FILE* status,
                      const std::function<void(Time until)>& turn) {
  watch_interrupts();
  const Time start = io::now();
  const auto elapsed = [&] { return std::chrono::duration<double>(io::now() - start).count(); };
  double next_second = 1;
  std::uint64_t shown = 0;
  while (!interrupted() && (arguments.seconds <= 0 || elapsed() < arguments.seconds)) {
    turn(io::now() + std::chrono::milliseconds(50));
    if (elapsed() < next_second) continue;
    next_second += 1;
    if (const std::string problem = file.problem(); !problem.empty()) {
      fmt::print(stderr, "{}\n", problem);
      return kFoundWrong;
    }
    if (file.packets() == shown) continue;
    shown = file.packets();
    fmt::print(status, "{:>6.0f} s  {:>8} datagrams  {:>10} bytes\n", elapsed(), file.packets(),
               file.bytes());
    std::fflush(status);
  }
  if (const std::string problem = file.problem(); !problem.empty()) {
    fmt::print(stderr, "{}\n", problem);
    return kFoundWrong;
  }
  return kFine;
}

// How much was recorded, and what the system dropped.
int finish(const RecordArguments& arguments, const CaptureFile& file, std::uint64_t missed) {
  if (arguments.json) {
    fmt::print("{}\n", json::text_of({{"file", arguments.into},
                                      {"datagrams", file.packets()},
                                      {"bytes", file.bytes()},
                                      {"missed", missed}},
                                     2));
  } else {
    fmt::print("{}: {} datagrams, {} bytes\n", arguments.into, file.packets(), file.bytes());
    if (missed > 0) fmt::print("{} packets passed too quickly to be kept\n", missed);
  }
  if (file.packets() > 0) return kFine;
  fmt::print(stderr, "nothing passed: is {} right, and did anybody talk?\n",
             arguments.port > 0 ? fmt::format("port {}", arguments.port) : arguments.to);
  return kFoundWrong;
}

// Packets of a port of this machine, by a packet socket: needs CAP_NET_RAW.
int record_port(const RecordArguments& arguments, std::FILE* status) {
  auto sniffer = io::Sniffer::open();
  if (!sniffer) {
    fmt::print(stderr,
               "--port: {}; run it as root, or let clients connect through `kwind record --server "
               "HOST:PORT`\n",
               error_info(sniffer.error()).text);
    return kFoundWrong;
  }
  CaptureFile file(arguments.into, fmt::format("kwind record --port {}", arguments.port));
  if (const std::string problem = file.problem(); !problem.empty()) {
    fmt::print(stderr, "{}\n", problem);
    return kFoundWrong;
  }
  fmt::print(status, "recording UDP to and from port {} into {}; end with Ctrl-C\n", arguments.port,
             arguments.into);
  std::fflush(status);
  std::uint64_t merged = 0;
  const int code = run_until_stopped(arguments, file, status, [&](Time until) {
    while (const auto packet = (*sniffer)->next(until)) {
      const auto udp = capture::udp_of_ip(*packet);
      if (udp && (udp->from.port == arguments.port || udp->to.port == arguments.port)) {
        merged += udp->payload.size() > link::kMaxDatagramBytes ? 1 : 0;
        file.add(io::now(), udp->from, udp->to, udp->payload);
      }
      if (io::now() >= until) break;
    }
  });
  if (merged > 0) {
    fmt::print(
        stderr,
        "{} packets are larger than any datagram of ours: the system shows several that left "
        "at once as one (segmentation offload). Record at the other end, or with --server\n",
        merged);
  }
  return code == kFine ? finish(arguments, file, (*sniffer)->missed()) : code;
}

// Stands between a client and a server, and records what passes.
int record_between(const RecordArguments& arguments, std::FILE* status) {
  const auto server = io::resolve(arguments.to);
  if (!server) {
    fmt::print(stderr, "--server {}: not HOST:PORT, or no such host\n", arguments.to);
    return kFoundWrong;
  }
  const auto here = io::resolve(arguments.listen);
  auto port = here ? io::UdpTransport::open(*here) : tl::unexpected<Errc>(here.error());
  if (!port) {
    fmt::print(stderr, "cannot listen on {}: {}\n", arguments.listen,
               error_info(port.error()).text);
    return kFoundWrong;
  }
  CaptureFile file(arguments.into, fmt::format("kwind record --server {}", arguments.to));
  if (const std::string problem = file.problem(); !problem.empty()) {
    fmt::print(stderr, "{}\n", problem);
    return kFoundWrong;
  }
  lag::Proxy proxy(std::move(*port), io::reachable(*server), {}, 1);
  proxy.watch([&](Time now, const Endpoint& from, const Endpoint& to,
                  std::span<const std::byte> datagram) { file.add(now, from, to, datagram); });
  fmt::print(status, "listening on {}, server at {}, recording into {}; end with Ctrl-C\n",
             proxy.local().text(), server->text(), arguments.into);
  std::fflush(status);
  const int code =
      run_until_stopped(arguments, file, status, [&](Time until) { proxy.run_once(until); });
  if (const std::uint64_t too_long = proxy.counts().too_long; too_long > 0) {
    fmt::print(stderr, "{} datagrams were longer than 2048 bytes and dropped\n", too_long);
  }
  return code == kFine ? finish(arguments, file, 0) : code;
}

// One of both ways, by the options.
int record(const RecordArguments& arguments) {
  std::FILE* const status = arguments.json ? stderr : stdout;
  if ((arguments.port > 0) == !arguments.to.empty()) {
    fmt::print(stderr,
               "kwind record: say either --port N, to record what passes this machine, or --server "
               "HOST:PORT, to stand between clients and a server\n");
    return kUsedWrongly;
  }
  if (arguments.port > 0 && arguments.listen != RecordArguments{}.listen) {
    fmt::print(stderr,
               "kwind record: --listen goes with --server; --port listens to what passes\n");
    return kUsedWrongly;
  }
  return arguments.port > 0 ? record_port(arguments, status) : record_between(arguments, status);
}

}  // namespace

// The options of `kwind record`.
void add_record(Command app, std::function<int()>& chosen) {
  auto arguments = std::make_shared<RecordArguments>();
  Command command =
      app.add_subcommand("record", "Keep the datagrams between clients and a server in a file");
  command.add_option("-o,--output", arguments->into, "The capture to write")
      .type_name("FILE.pcapng")
      .required();
  command
      .add_option("--port", arguments->port,
                  "Record what passes this machine to and from this UDP port; needs root")
      .range(1, 65535);
  command.add_option("--server", arguments->to, "Stand between clients and this server instead")
      .type_name("HOST:PORT");
  command.add_option("--listen", arguments->listen, "With --server: where clients are to connect")
      .type_name("HOST:PORT")
      .capture_default_str();
  command.add_option("--seconds", arguments->seconds, "Stop by itself; 0: when interrupted")
      .range(0.0, 1e7)
      .capture_default_str();
  command.add_flag("--json", arguments->json, "Print one JSON object at the end");
  command.footer(
      "Example:\n  kwind record --port 4000 -o harbour.pcapng\n"
      "`kwind explain FILE.kw --capture harbour.pcapng` says what is in it. Encrypted datagrams "
      "need "
      "the\n"
      "keys that the server or the client logged: ServerOptions::key_log, or `kwind demo "
      "--key-log`.");
  command.callback([arguments, &chosen] { chosen = [arguments] { return record(*arguments); }; });
}

}  // namespace kwind::tool
