// Runs a program in a terminal of its own, as somebody who types.
#pragma once
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdlib.h>
#include <sys/ioctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <string>
#include <vector>

namespace kwind::kit {

class Terminal {
 public:
  explicit Terminal(const std::vector<std::string>& command) {
    master_ = ::posix_openpt(O_RDWR | O_NOCTTY | O_CLOEXEC);
    if (master_ < 0 || ::grantpt(master_) != 0 || ::unlockpt(master_) != 0) return;
    const std::string name = ::ptsname(master_);
    pid_ = ::fork();
    if (pid_ == 0) {
      ::setsid();
      const int slave = ::open(name.c_str(), O_RDWR);
      const winsize size{40, 100, 0, 0};
      ::ioctl(slave, TIOCSCTTY, 0);
      ::ioctl(slave, TIOCSWINSZ, &size);
      for (const int file : {0, 1, 2}) ::dup2(slave, file);
      ::setenv("TERM", "xterm", 1);
      ::setenv("LC_ALL", "C.UTF-8", 1);
      std::vector<char*> arguments;
      for (const std::string& word : command) arguments.push_back(const_cast<char*>(word.c_str()));
      arguments.push_back(nullptr);
      ::execv(arguments[0], arguments.data());
      ::_exit(127);
    }
  }
  Terminal(const Terminal&) = delete;
  Terminal& operator=(const Terminal&) = delete;
  ~Terminal() {
    hang_up();
    if (pid_ > 0 && !reaped_) {
      ::kill(pid_, SIGKILL);
      ::waitpid(pid_, nullptr, 0);
    }
  }

  bool type(const std::string& keys) {
    return ::write(master_, keys.data(), keys.size()) == static_cast<ssize_t>(keys.size());
  }
  /// Reads until the program has written `text` since the last call that found what it waited for.
  bool wait_for(const std::string& text) {
    const auto end = std::chrono::steady_clock::now() + std::chrono::seconds(15);
    for (;;) {
      const std::size_t at = shown_.find(text, seen_);
      if (at != std::string::npos) {
        seen_ = at + text.size();
        return true;
      }
      pollfd file{master_, POLLIN, 0};
      if (std::chrono::steady_clock::now() > end) return false;
      if (::poll(&file, 1, 100) <= 0) continue;
      char buffer[4096];
      const ssize_t got = ::read(master_, buffer, sizeof buffer);
      if (got <= 0) return false;
      shown_.append(buffer, static_cast<std::size_t>(got));
    }
  }
  /// Closes the terminal, as if its window was closed.
  void hang_up() {
    if (master_ >= 0) ::close(master_);
    master_ = -1;
  }
  /// The exit code, once it has ended, within fifteen seconds; -1 if it has not.
  int exit_code() {
    for (int i = 0; i < 1500; ++i) {
      int status = 0;
      if (::waitpid(pid_, &status, WNOHANG) == pid_) {
        reaped_ = true;
        return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
      }
      ::usleep(10000);
    }
    return -1;
  }
  [[nodiscard]] const std::string& shown() const { return shown_; }

 private:
  int master_ = -1;
  pid_t pid_ = -1;
  std::string shown_;
  std::size_t seen_ = 0;
  bool reaped_ = false;
};

}  // namespace kwind::kit
