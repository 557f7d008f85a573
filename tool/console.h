// A line-by-line conversation with whoever started the tool: a terminal with editing, history and
// completion, or lines from a pipe. What is printed meanwhile does not break the line being typed.
// One console in a process, one thread.
#pragma once
#include <functional>
#include <string>
#include <string_view>
#include <vector>

namespace kwind::tool {

class Console {
 public:
  /// Reads standard input, which a terminal with standard output makes editable. `completions` is
  /// asked for whole words in place of the last one typed.
  Console(const char* prompt,
          std::function<std::vector<std::string>(std::string_view typed)> completions);
  ~Console();
  Console(const Console&) = delete;
  Console& operator=(const Console&) = delete;

  /// The descriptor to wait for; -1 when the input has ended.
  [[nodiscard]] int descriptor() const;
  [[nodiscard]] bool ended() const { return ended_; }
  [[nodiscard]] bool is_terminal() const { return terminal_; }
  /// Takes what was typed; `line` is called for each whole line, of a pipe for at most kMaxLines
  /// of them. Call it when the descriptor is ready, or at any time.
  void read(const std::function<void(const std::string&)>& line);
  static constexpr std::size_t kMaxLines = 64;
  static constexpr std::size_t kLongestLine = 65536;  ///< in bytes; of longer ones the rest is lost
  /// Whether more whole lines wait than read() took.
  [[nodiscard]] bool has_lines() const { return has_lines_; }
  /// Prints a line above the one being typed.
  void print(std::string_view line);

 private:
  void read_pipe(const std::function<void(const std::string&)>& line);
  std::string prompt_;
  bool terminal_;
  bool ended_ = false;
  bool hung_up_ = false;  // the terminal is gone
  bool has_lines_ = false;
  bool pipe_ended_ = false;
  std::string rest_;  // of a pipe: not taken yet
};

}  // namespace kwind::tool
