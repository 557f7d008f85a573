// The besieged: a server at 20 ticks a second that replicates 60 gulls, and 100 honest clients on
// loopback. Each client says a stamp, which may be lost, and an order, which may not, each tick.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "attack.h"
#include "kwind/host/server.h"
#include "kwind/io/tcp_transport.h"

namespace kwind::siege_bench {

inline constexpr Duration kTick = 50ms;

/// Something that goes wrong at the server while nobody attacks it.
struct Fault {
  std::string name;
  /// Called in the server's thread, before each turn, with the time since the figures began.
  std::function<void(Duration)> act;
  /// When the fault ends, since the figures began: what is late from then on counts as recovery.
  std::vector<Duration> ends;
};

struct Figures {
  std::uint64_t ticks = 0;
  std::uint64_t due = 0;
  double longest_receive_ms = 0;
  double longest_receive_cpu_ms = 0;  ///< without the time in which the machine ran others
  /// How late the timer of a real-time thread was, at worst, on either core: the machine itself
  /// stood still for so long. 0 where the process may have no such thread.
  double machine_stall_ms = 0;
  double server_cpu = 0;  ///< of a core
  std::vector<double> up_ms;
  std::vector<double> admitted_ms;  ///< of somebody new
  std::size_t not_admitted = 0;
  std::size_t alive = 0;
  std::uint64_t orders_sent = 0;
  std::uint64_t orders_heard = 0;
  std::uint64_t orders_out_of_turn = 0;
  double recovery_ms = 0;  ///< after a fault ended, until no order came later than 250 ms
  double mib_before = 0;
  double mib_after = 0;
};

class Besieged {
 public:
  Besieged();
  ~Besieged();
  /// Several attacks at once share one core. `sent` counts for all of them.
  Figures run(double seconds, const std::vector<Attack>& attacks, const Fault* fault, Sent& sent);

 private:
  struct Honest;
  void serve(const std::atomic<bool>& stop, const std::atomic<bool>& measuring, const Fault* fault,
             Figures& figures);
  [[nodiscard]] Target target() const;

  host::ServerOptions options_;
  std::unique_ptr<io::UdpTransport> udp_;
  std::unique_ptr<io::TcpTransport> tcp_;
};

double at(std::vector<double>& values, double share);

}  // namespace kwind::siege_bench
