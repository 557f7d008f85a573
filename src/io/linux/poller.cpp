// epoll: the cost of a look is that of what is ready, however many streams there are.
#include "io/poller.h"

#include <sys/epoll.h>
#include <unistd.h>

#include <array>
#include <cerrno>

#include "io/sockets.h"

namespace kwind::io {

struct Poller::State {
  static constexpr int kEvents = 64;
  int epoll = -1;
  std::vector<Event> events;

  State() = default;
  State(const State&) = delete;
  State& operator=(const State&) = delete;
  ~State() {
    if (epoll >= 0) ::close(epoll);
  }
  // An error means that the descriptor is gone: then there is nothing to watch.
  void control(int operation, int descriptor, std::uint32_t wanted) const {
    epoll_event event{};
    event.events = wanted;
    event.data.fd = descriptor;
    (void)::epoll_ctl(epoll, operation, descriptor, &event);
  }
};

Poller::Poller() : state_(std::make_unique<State>()) {}
Poller::~Poller() = default;

// The set lives in the kernel and is closed with this object.
Errc Poller::open() {
  state_->epoll = ::epoll_create1(EPOLL_CLOEXEC);
  return state_->epoll < 0 ? from_system_error(errno) : Errc::none;
}

// A new stream is watched for bytes to read.
void Poller::add(int descriptor) {
  state_->control(EPOLL_CTL_ADD, descriptor, EPOLLIN);
}

// A stream with unsent bytes is watched for room, too.
void Poller::change(int descriptor, bool to_read, bool to_write) {
  state_->control(
      EPOLL_CTL_MOD, descriptor,
      (to_read ? std::uint32_t{EPOLLIN} : 0U) | (to_write ? std::uint32_t{EPOLLOUT} : 0U));
}

// Closing a descriptor takes it out.
void Poller::remove(int) {}

// Does not block. At most 64 events a look; those that are left come with the next one.
const std::vector<Poller::Event>& Poller::look() {
  std::array<epoll_event, State::kEvents> ready{};
  int count = -1;
  do {
    count = ::epoll_wait(state_->epoll, ready.data(), State::kEvents, 0);
  } while (count < 0 && errno == EINTR);
  state_->events.clear();
  for (int i = 0; i < count; ++i) {
    const epoll_event& each = ready[static_cast<std::size_t>(i)];
    state_->events.push_back({each.data.fd, (each.events & (EPOLLIN | EPOLLHUP | EPOLLERR)) != 0,
                              (each.events & EPOLLOUT) != 0});
  }
  return state_->events;
}

void Poller::each_wait(const std::function<void(int, bool)>& visit) const {
  visit(state_->epoll, false);  // it watches all the others
}

}  // namespace kwind::io
