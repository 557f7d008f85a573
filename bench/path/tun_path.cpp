// A path between two network namespaces: a TUN device at each end, and between them a simulated
// path that delays, loses and limits the IP packets of whoever sends.
#include "path/tun_path.h"

#include <arpa/inet.h>
#include <fcntl.h>
#include <linux/if.h>
#include <linux/if_tun.h>
#include <poll.h>
#include <sched.h>
#include <sys/eventfd.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <cstring>
#include <stdexcept>

#include "kwind/io/clock.h"

namespace kwind::bench {
namespace {

constexpr const char* kAddresses[2] = {"10.77.0.1", "10.77.0.2"};

void check(int result, const char* what) {
  if (result < 0) throw std::runtime_error(std::string(what) + ": " + std::strerror(errno));
}

void set_address(int socket, const char* device, unsigned long request, const char* address) {
  ifreq wish{};
  std::strncpy(wish.ifr_name, device, IFNAMSIZ - 1);
  sockaddr_in in{};
  in.sin_family = AF_INET;
  inet_pton(AF_INET, address, &in.sin_addr);
  std::memcpy(&wish.ifr_addr, &in, sizeof in);
  check(ioctl(socket, request, &wish), "setting an address");
}

// A TUN device in a namespace of its own; the calling thread is in it afterwards.
int make_tun(int end, int& namespace_fd) {
  check(unshare(CLONE_NEWNET), "making a network namespace (this needs root)");
  namespace_fd = open("/proc/thread-self/ns/net", O_RDONLY | O_CLOEXEC);
  check(namespace_fd, "opening the namespace");
  const int tun = open("/dev/net/tun", O_RDWR | O_NONBLOCK | O_CLOEXEC);
  check(tun, "opening /dev/net/tun");
  ifreq wish{};
  wish.ifr_flags = IFF_TUN | IFF_NO_PI;
  std::strncpy(wish.ifr_name, "path", IFNAMSIZ - 1);
  check(ioctl(tun, TUNSETIFF, &wish), "making a TUN device");
  const int socket = ::socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
  check(socket, "opening a socket");
  set_address(socket, "path", SIOCSIFADDR, kAddresses[end]);
  set_address(socket, "path", SIOCSIFDSTADDR, kAddresses[1 - end]);
  wish.ifr_flags = IFF_UP | IFF_RUNNING;
  check(ioctl(socket, SIOCSIFFLAGS, &wish), "bringing a TUN device up");
  // A long queue: what the path drops is this program's business.
  wish.ifr_qlen = 10000;
  check(ioctl(socket, SIOCSIFTXQLEN, &wish), "setting the queue's length");
  close(socket);
  return tun;
}

}  // namespace

Forwarder::Forwarder() : stop_event_(eventfd(0, EFD_NONBLOCK | EFD_CLOEXEC)) {}

Forwarder::~Forwarder() {
  stop();
  for (const auto& path : paths_) {
    for (int end = 0; end < 2; ++end) {
      close(path->tuns[end]);
      close(path->namespaces[end]);
    }
  }
  close(stop_event_);
}

std::size_t Forwarder::add(const PathSpec& spec) {
  auto path = std::make_unique<Path>();
  path->spec = spec;
  for (int end = 0; end < 2; ++end) {
    std::string problem;
    std::thread([&] {
      try {
        path->tuns[end] = make_tun(end, path->namespaces[end]);
      } catch (const std::exception& error) {
        problem = error.what();
      }
    }).join();
    if (!problem.empty()) throw std::runtime_error(problem);
  }
  for (int way = 0; way < 2; ++way) {
    path->ways[way].in = path->tuns[way];
    path->ways[way].out = path->tuns[1 - way];
    path->ways[way].random.seed(spec.seed * 2 + static_cast<unsigned>(way));
  }
  paths_.push_back(std::move(path));
  return paths_.size() - 1;
}

std::thread Forwarder::run_at(std::size_t path, int end, std::function<void()> work) const {
  const int where = paths_[path]->namespaces[end];
  return std::thread([where, work = std::move(work)] {
    if (setns(where, CLONE_NEWNET) == 0) work();
  });
}

void Forwarder::start() {
  thread_ = std::thread([this] { loop(); });
}

void Forwarder::stop() {
  if (!thread_.joinable()) return;
  const std::uint64_t one = 1;
  (void)!write(stop_event_, &one, sizeof one);
  thread_.join();
}

const PathCounts& Forwarder::counts(std::size_t path) const {
  return paths_[path]->counts;
}

double Forwarder::late_share() const {
  return forwarded_ == 0 ? 0 : static_cast<double>(late_) / static_cast<double>(forwarded_);
}

void Forwarder::take(Path& path, int way_number, Time now) {
  Way& way = path.ways[way_number];
  char buffer[2048];
  for (ssize_t got = 0; (got = read(way.in, buffer, sizeof buffer)) > 0;) {
    if ((buffer[0] >> 4) != 4) continue;  // the system's own IPv6 noise
    const auto size = static_cast<std::size_t>(got);
    ++path.counts.packets[way_number];
    path.counts.bytes[way_number] += size;
    const double chance = static_cast<double>(way.random() >> 11) * 0x1p-53;
    // A Gilbert model: from a run of losses to a run of arrivals, and back.
    const double stay = 1 - 1 / path.spec.loss_run;
    const double enter = path.spec.loss_run > 1
                             ? path.spec.loss / ((1 - path.spec.loss) * path.spec.loss_run)
                             : path.spec.loss;
    way.losing = chance < (way.losing && path.spec.loss_run > 1 ? stay : enter);
    if (way.losing) {
      ++path.counts.lost[way_number];
      continue;
    }
    Time leaves = now;
    if (path.spec.reorder > 0 &&
        static_cast<double>(way.random() >> 11) * 0x1p-53 < path.spec.reorder) {
      leaves += std::chrono::milliseconds(30);
    }
    if (path.spec.rate > 0) {
      way.free_at = std::max(way.free_at, now);
      const double waiting =
          std::chrono::duration<double>(way.free_at - now).count() * path.spec.rate;
      if (waiting + static_cast<double>(size) > static_cast<double>(path.spec.queue_bytes)) {
        ++path.counts.overflowed[way_number];
        continue;
      }
      way.free_at +=
          Duration(static_cast<Duration::rep>(static_cast<double>(size) / path.spec.rate * 1e9));
      leaves = way.free_at;
    }
    const Time due = leaves + path.spec.delay;
    const auto place =
        std::upper_bound(way.under_way.begin(), way.under_way.end(), due,
                         [](Time wanted, const Packet& packet) { return wanted < packet.due; });
    way.under_way.insert(place, {due, {buffer, buffer + got}});
  }
}

void Forwarder::loop() {
  // Ahead of all that it measures; where that is not permitted, it shows in the lateness.
  sched_param first{};
  first.sched_priority = 10;
  (void)sched_setscheduler(0, SCHED_FIFO, &first);
  std::vector<pollfd> files;
  for (const auto& path : paths_) {
    for (const int tun : path->tuns) files.push_back({tun, POLLIN, 0});
  }
  files.push_back({stop_event_, POLLIN, 0});
  for (;;) {
    Time next = kNever;
    const Time now = io::now();
    for (const auto& path : paths_) {
      for (Way& way : path->ways) {
        while (!way.under_way.empty() && way.under_way.front().due <= now) {
          const Packet& packet = way.under_way.front();
          (void)!write(way.out, packet.bytes.data(), packet.bytes.size());
          const Duration late = now - packet.due;
          worst_ = std::max(worst_, late);
          late_ += late > kLate ? 1 : 0;
          ++forwarded_;
          way.under_way.pop_front();
        }
        if (!way.under_way.empty()) next = std::min(next, way.under_way.front().due);
      }
    }
    const Duration left = next == kNever ? std::chrono::milliseconds(100)
                                         : std::max<Duration>(next - io::now(), Duration{0});
    const timespec timeout{static_cast<time_t>(left.count() / 1000000000),
                           static_cast<long>(left.count() % 1000000000)};
    if (ppoll(files.data(), files.size(), &timeout, nullptr) <= 0) continue;
    if (files.back().revents != 0) return;
    const Time arrived = io::now();
    for (std::size_t i = 0; i + 1 < files.size(); ++i) {
      if (files[i].revents != 0) take(*paths_[i / 2], static_cast<int>(i % 2), arrived);
    }
  }
}

}  // namespace kwind::bench
