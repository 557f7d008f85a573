// Line editing by libedit, or plain lines from a pipe. Output that comes while a line is typed is
// printed above it.
#include "console.h"

#include <editline/readline.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstring>
#include <utility>

namespace kwind::tool {
namespace {

// The editing library keeps its state in globals, and so must what it calls.
std::function<std::vector<std::string>(std::string_view)> g_completions;
std::vector<std::string> g_found;
const std::function<void(const std::string&)>* g_line = nullptr;
bool* g_ended = nullptr;
bool g_in_line = false;  // a whole line is being dealt with: none is being typed
bool g_took_line = false;
bool g_typing = false;  // a key has come since; before, the library's buffer holds the last line

char* next_match(const char*, int state) {
  const auto place = static_cast<std::size_t>(state);
  return place < g_found.size() ? ::strdup(g_found[place].c_str()) : nullptr;
}

// libedit asks for completions of the word at the end of the line.
char** complete(const char*, int, int end) {
  g_found =
      g_completions(std::string_view(rl_line_buffer).substr(0, static_cast<std::size_t>(end)));
  rl_attempted_completion_over = 1;
  // A field's value follows at once.
  rl_completion_append_character = g_found.size() == 1 && g_found[0].ends_with('=') ? '\0' : ' ';
  return g_found.empty() ? nullptr : rl_completion_matches("", next_match);
}

// A whole line, or the end of the input.
void take_line(char* line) {
  if (line == nullptr) {
    *g_ended = true;
    return;
  }
  const std::string text(line);
  std::free(line);  // NOLINT: the library allocates it so
  if (!text.empty()) add_history(text.c_str());
  g_in_line = true;
  if (g_line != nullptr) (*g_line)(text);
  g_in_line = false;
  g_took_line = true;
}

// Characters of UTF-8, as columns on the screen.
std::size_t columns_of(std::string_view text) {
  return static_cast<std::size_t>(
      std::count_if(text.begin(), text.end(), [](char c) { return (c & 0xc0) != 0x80; }));
}
std::size_t screen_width() {
  winsize size{};
  return ::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col > 0 ? size.ws_col : 80;
}

}  // namespace

// With a terminal libedit reads the line; otherwise lines come from a pipe.
Console::Console(const char* prompt,
                 std::function<std::vector<std::string>(std::string_view)> completions)
    : prompt_(prompt), terminal_(::isatty(STDIN_FILENO) == 1 && ::isatty(STDOUT_FILENO) == 1) {
  if (!terminal_) return;
  g_completions = std::move(completions);
  g_ended = &ended_;
  static char no_breaks[] = " ";
  rl_completer_word_break_characters = no_breaks;
  rl_attempted_completion_function = complete;
  rl_callback_handler_install(prompt, take_line);
}

// Gives the terminal back as it was.
Console::~Console() {
  if (!terminal_) return;
  rl_callback_handler_remove();
  if (hung_up_) {
    std::clearerr(stdout);  // nobody is there to miss what was not written
    return;
  }
  std::fputs("\r\x1b[K", stdout);
  std::fflush(stdout);
}

int Console::descriptor() const {
  return ended_ ? -1 : STDIN_FILENO;
}

// Never blocks: takes the bytes that are there.
void Console::read(const std::function<void(const std::string&)>& line) {
  if (ended_) return;
  if (!terminal_) return read_pipe(line);
  g_line = &line;
  pollfd ready{STDIN_FILENO, POLLIN, 0};
  while (!ended_ && ::poll(&ready, 1, 0) > 0) {
    if ((ready.revents & POLLIN) == 0 || (ready.revents & POLLHUP) != 0) {
      ended_ = hung_up_ = true;  // the library would go on asking it
    } else {
      g_typing = true;
      rl_callback_read_char();
      // After a line the library would wait for a whole one; this makes it take keys again.
      if (std::exchange(g_took_line, false) && !ended_) {
        g_typing = false;
        rl_callback_handler_install(prompt_.c_str(), take_line);
      }
    }
  }
  g_line = nullptr;
}

// So much in a turn: whatever else the program has to do goes on beside an endless pipe.
void Console::read_pipe(const std::function<void(const std::string&)>& line) {
  std::array<char, 4096> buffer{};
  pollfd ready{STDIN_FILENO, POLLIN, 0};
  if (!has_lines_ && !pipe_ended_ && ::poll(&ready, 1, 0) > 0) {
    const ssize_t got = ::read(STDIN_FILENO, buffer.data(), buffer.size());
    if (got > 0) {
      rest_.append(buffer.data(), static_cast<std::size_t>(got));
    } else if (got == 0 || errno != EINTR) {
      pipe_ended_ = true;
    }
  }
  std::size_t begin = 0;
  std::size_t end = rest_.find('\n');
  for (std::size_t taken = 0; end != std::string::npos && taken < kMaxLines; ++taken) {
    line(rest_.substr(begin, std::min(end - begin, kLongestLine)));
    begin = end + 1;
    end = rest_.find('\n', begin);
  }
  rest_.erase(0, begin);
  has_lines_ = end != std::string::npos;
  if (!has_lines_ && rest_.size() > kLongestLine) rest_.resize(kLongestLine);
  if (!pipe_ended_ || has_lines_) return;
  ended_ = true;
  if (!rest_.empty()) line(std::exchange(rest_, {}));
}

// Clears the line that is being typed, prints, and shows the line again.
void Console::print(std::string_view line) {
  if (hung_up_) return;
  if (!terminal_ || g_in_line || ended_) {
    // Output that cannot be written ends nothing; whether all was written is seen in the end.
    std::fwrite(line.data(), 1, line.size(), stdout);
    std::fputc('\n', stdout);
    std::fflush(stdout);
    return;
  }
  // What is being typed goes, and comes again below with the cursor where it was: the library's own
  // picture of that line stays true.
  std::string_view typed;
  if (g_typing) typed = {rl_line_buffer, static_cast<std::size_t>(rl_end)};
  const std::string_view before =
      typed.substr(0, std::min(typed.size(), static_cast<std::size_t>(rl_point)));
  const std::size_t row = (columns_of(prompt_) + columns_of(before)) / screen_width();
  if (row > 0) fmt::print("\x1b[{}A", row);
  fmt::print("\r\x1b[J{}\n{}{}", line, prompt_, typed);
  const std::size_t back = columns_of(typed) - columns_of(before);
  if (back > 0) fmt::print("\x1b[{}D", back);
  std::fflush(stdout);
}

}  // namespace kwind::tool
