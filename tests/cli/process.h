// Runs programs as a user would and takes what they print.
#pragma once
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cstdint>
#include <string>
#include <thread>
#include <vector>

namespace kwind::kit {

struct Finished {
  int code = -1;
  std::string out;
  std::string err;
};

class Process {
 public:
  explicit Process(const std::vector<std::string>& command) {
    int out[2];
    int err[2];
    int in[2];
    if (::pipe2(out, O_CLOEXEC) != 0 || ::pipe2(err, O_CLOEXEC) != 0) return;
    if (::pipe2(in, O_CLOEXEC) != 0) return;
    pid_ = ::fork();
    if (pid_ == 0) {
      ::dup2(in[0], 0);
      ::dup2(out[1], 1);
      ::dup2(err[1], 2);
      std::vector<char*> arguments;
      for (const std::string& word : command) arguments.push_back(const_cast<char*>(word.c_str()));
      arguments.push_back(nullptr);
      ::execv(arguments[0], arguments.data());
      ::_exit(127);
    }
    ::close(in[0]);
    ::close(out[1]);
    ::close(err[1]);
    in_ = in[1];
    out_ = out[0];
    err_ = err[0];
  }
  Process(const Process&) = delete;
  Process& operator=(const Process&) = delete;
  ~Process() {
    if (pid_ > 0 && !reaped_) {
      ::kill(pid_, SIGKILL);
      ::waitpid(pid_, nullptr, 0);
    }
    ::close(in_);
    ::close(out_);
    ::close(err_);
  }

  /// Reads until stdout contains `text` or so much time has passed.
  bool wait_for(const std::string& text,
                std::chrono::milliseconds time = std::chrono::seconds(20)) {
    const auto end = std::chrono::steady_clock::now() + time;
    const int step = static_cast<int>(std::min<std::int64_t>(100, time.count()));
    while (done_.out.find(text) == std::string::npos) {
      if (std::chrono::steady_clock::now() > end || !read_some(step)) break;
    }
    return done_.out.find(text) != std::string::npos;
  }
  bool wait_for_error(const std::string& text) {
    const auto end = std::chrono::steady_clock::now() + std::chrono::seconds(10);
    while (done_.err.find(text) == std::string::npos) {
      if (std::chrono::steady_clock::now() > end || !read_some(100)) break;
    }
    return done_.err.find(text) != std::string::npos;
  }
  [[nodiscard]] const std::string& err() const { return done_.err; }
  void signal(int number) { ::kill(pid_, number); }
  /// To its standard input.
  bool write_line(const std::string& line) {
    const std::string whole = line + "\n";
    return ::write(in_, whole.data(), whole.size()) == static_cast<ssize_t>(whole.size());
  }
  void close_input() {
    ::close(in_);
    in_ = -1;
  }
  /// The next line of stdout, waited for at most ten seconds.
  std::string read_line() {
    const auto end = std::chrono::steady_clock::now() + std::chrono::seconds(10);
    std::size_t stop = std::string::npos;
    while ((stop = done_.out.find('\n', line_at_)) == std::string::npos) {
      if (std::chrono::steady_clock::now() > end || !read_some(100)) break;
    }
    if (stop == std::string::npos) return {};
    const std::string line = done_.out.substr(line_at_, stop - line_at_);
    line_at_ = stop + 1;
    return line;
  }
  /// Reads until the last line that it has printed is whole.
  void read_to_end_of_line() {
    const auto end = std::chrono::steady_clock::now() + std::chrono::seconds(10);
    while (!done_.out.ends_with('\n') && std::chrono::steady_clock::now() < end && read_some(100)) {
    }
  }
  /// Reads to the end and gives the exit code.
  Finished finish() {
    close_input();
    while (read_some(60000)) {
    }
    int status = 0;
    ::waitpid(pid_, &status, 0);
    reaped_ = true;
    done_.code = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
    return done_;
  }
  [[nodiscard]] const std::string& out() const { return done_.out; }

 private:
  bool read_some(int wait_ms) {
    pollfd files[2] = {{out_open_ ? out_ : -1, POLLIN, 0}, {err_open_ ? err_ : -1, POLLIN, 0}};
    if (!out_open_ && !err_open_) return false;
    if (::poll(files, 2, wait_ms) <= 0) return wait_ms < 1000;
    char buffer[4096];
    if (files[0].revents != 0) out_open_ = take(out_, buffer, done_.out);
    if (files[1].revents != 0) err_open_ = take(err_, buffer, done_.err);
    return true;
  }
  static bool take(int file, char (&buffer)[4096], std::string& into) {
    const ssize_t got = ::read(file, buffer, sizeof buffer);
    if (got > 0) into.append(buffer, static_cast<std::size_t>(got));
    return got > 0;
  }

  pid_t pid_ = -1;
  int in_ = -1;
  std::size_t line_at_ = 0;
  int out_ = -1;
  int err_ = -1;
  bool out_open_ = true;
  bool err_open_ = true;
  bool reaped_ = false;
  Finished done_;
};

inline Finished run(const std::vector<std::string>& command) {
  return Process(command).finish();
}

}  // namespace kwind::kit
