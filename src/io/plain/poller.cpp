// poll over all streams: the cost of a look grows with their number.
#include "io/poller.h"

#include <algorithm>

#include "io/sockets.h"

namespace kwind::io {

struct Poller::State {
  std::vector<pollfd> files;
  std::vector<Event> events;

  // O(streams), as is every poll().
  pollfd* find(int descriptor) {
    const auto found = std::find_if(files.begin(), files.end(), [&](const pollfd& each) {
      return static_cast<int>(each.fd) == descriptor;
    });
    return found == files.end() ? nullptr : &*found;
  }
};

Poller::Poller() : state_(std::make_unique<State>()) {}
Poller::~Poller() = default;

// Nothing to open: poll() takes the list with each call.
Errc Poller::open() {
  return Errc::none;
}

// A new stream is watched for bytes to read.
void Poller::add(int descriptor) {
  pollfd file{};
  file.fd = static_cast<decltype(file.fd)>(descriptor);
  file.events = POLLIN;
  state_->files.push_back(file);
}

void Poller::change(int descriptor, bool to_read, bool to_write) {
  pollfd* const file = state_->find(descriptor);
  if (file == nullptr) return;
  file->events = static_cast<short>((to_read ? POLLIN : 0) | (to_write ? POLLOUT : 0));
}

// The order of the list has no meaning.
void Poller::remove(int descriptor) {
  std::erase_if(state_->files,
                [&](const pollfd& each) { return static_cast<int>(each.fd) == descriptor; });
}

// poll() goes through all descriptors: O(streams) a look.
const std::vector<Poller::Event>& Poller::look() {
  state_->events.clear();
  if (state_->files.empty() || poll_sockets(state_->files, Duration{0}) <= 0) return state_->events;
  for (const pollfd& each : state_->files) {
    // A descriptor that is not asked still says that its other end is gone: not now.
    if (each.revents == 0 || each.events == 0) continue;
    state_->events.push_back({static_cast<int>(each.fd),
                              (each.revents & (POLLIN | POLLHUP | POLLERR | POLLNVAL)) != 0,
                              (each.revents & POLLOUT) != 0});
  }
  return state_->events;
}

// Each stream is polled by itself: there is no descriptor that stands for all of them.
void Poller::each_wait(const std::function<void(int, bool)>& visit) const {
  for (const pollfd& each : state_->files) {
    if (each.events != 0) visit(static_cast<int>(each.fd), (each.events & POLLOUT) != 0);
  }
}

}  // namespace kwind::io
