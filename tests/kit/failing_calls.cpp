// The functions of the C library that the transports call, as thin as there: they enter the kernel
// themselves, or fail.
#include "kit/failing_calls.h"

#include <dlfcn.h>
#include <poll.h>
#include <sys/epoll.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>

namespace kwind::kit {
namespace {

std::atomic<SystemCall> failing{SystemCall::none};
std::atomic<int> failing_with{0};
std::atomic<std::uint64_t> failures{0};
std::atomic<std::int64_t> shifted{0};
thread_local bool affected = false;

bool fails(SystemCall call) {
  if (!affected || failing.load(std::memory_order_relaxed) != call) return false;
  failures.fetch_add(1, std::memory_order_relaxed);
  errno = failing_with.load(std::memory_order_relaxed);
  return true;
}

}  // namespace

void let_calls_fail(bool fail) {
  affected = fail;
}
void fail_calls(SystemCall call, int error) {
  failing_with = error;
  failing = call;
}
std::uint64_t failed_calls() {
  return failures;
}
void shift_wall_clock(std::chrono::seconds by) {
  shifted = by.count();
}

}  // namespace kwind::kit

using kwind::kit::SystemCall;

extern "C" {

ssize_t sendmsg(int socket, const msghdr* message, int flags) {
  if (kwind::kit::fails(SystemCall::send)) return -1;
  return ::syscall(SYS_sendmsg, socket, message, flags);
}
int sendmmsg(int socket, mmsghdr* messages, unsigned count, int flags) {
  if (kwind::kit::fails(SystemCall::send)) return -1;
  return static_cast<int>(::syscall(SYS_sendmmsg, socket, messages, count, flags));
}
ssize_t send(int socket, const void* bytes, size_t size, int flags) {
  if (kwind::kit::fails(SystemCall::send)) return -1;
  return ::syscall(SYS_sendto, socket, bytes, size, flags, nullptr, 0);
}
int recvmmsg(int socket, mmsghdr* messages, unsigned count, int flags, timespec* timeout) {
  if (kwind::kit::fails(SystemCall::receive)) return -1;
  return static_cast<int>(::syscall(SYS_recvmmsg, socket, messages, count, flags, timeout));
}
ssize_t recv(int socket, void* bytes, size_t size, int flags) {
  if (kwind::kit::fails(SystemCall::receive)) return -1;
  return ::syscall(SYS_recvfrom, socket, bytes, size, flags, nullptr, nullptr);
}
int accept(int socket, sockaddr* from, socklen_t* size) {
  if (kwind::kit::fails(SystemCall::accept)) return -1;
  return static_cast<int>(::syscall(SYS_accept4, socket, from, size, 0));
}
int ppoll(pollfd* files, nfds_t count, const timespec* timeout, const sigset_t* signals) {
  if (kwind::kit::fails(SystemCall::wait)) return -1;
  timespec left{};  // the kernel writes what is left of it
  if (timeout != nullptr) left = *timeout;
  return static_cast<int>(
      ::syscall(SYS_ppoll, files, count, timeout != nullptr ? &left : nullptr, signals, 8));
}
int epoll_wait(int epoll, epoll_event* events, int count, int timeout) {
  if (kwind::kit::fails(SystemCall::wait)) return -1;
  return static_cast<int>(::syscall(SYS_epoll_pwait, epoll, events, count, timeout, nullptr, 8));
}
int clock_gettime(clockid_t clock, timespec* time) {
  // The library's own is much quicker than the kernel.
  using Function = int (*)(clockid_t, timespec*);
  static const auto original = reinterpret_cast<Function>(::dlsym(RTLD_NEXT, "clock_gettime"));
  const int result = original(clock, time);
  if (clock == CLOCK_REALTIME) time->tv_sec += kwind::kit::shifted.load(std::memory_order_relaxed);
  return result;
}

}  // extern "C"
