// The command line of a command: options and arguments, each bound to a variable. options.cpp is
// the one source that includes the option parser, which takes ten seconds to compile.
#pragma once
#include <cstddef>
#include <cstdint>
#include <functional>
#include <string>
#include <vector>

namespace CLI {
class App;
class Option;
}  // namespace CLI

namespace kwind::tool {

/// An option, or an argument, of a command. A handle: copies name the same option.
class Option {
 public:
  explicit Option(CLI::Option* option) : option_(option) {}

  /// Refuses values outside `low` to `high`, both included.
  Option range(double low, double high);
  Option range(int low, int high);
  /// Refuses what is no whole number of 64 bits: the parser would let it wrap around, or cut it.
  /// All options of such a variable have this.
  Option whole_from_zero();
  /// The option may stand without a value; `fallback` is its value then.
  Option optional_value(const std::string& fallback);
  /// Refuses "". All options that are texts have this.
  Option not_empty();
  Option required();
  /// Names the value in the help text, as in `--server-key FILE`.
  Option type_name(const std::string& name);
  /// Shows the variable's present value as the default.
  Option capture_default_str();
  /// Refuses the command line if `other` is not there too.
  Option needs(Option other);
  /// Refuses the command line if `other` is there too.
  Option excludes(Option other);

 private:
  template <class Number>
  Option within(Number low, Number high, const char* what);

  CLI::Option* option_;
};

/// A command that `kwind` has. A handle: copies name the same command.
class Command {
 public:
  explicit Command(CLI::App* app) : app_(app) {}

  Command add_subcommand(const std::string& name, const std::string& about);
  void require_subcommand(int count);
  void footer(const std::string& text);
  void callback(std::function<void()> run);

  /// Binds `--name` or an argument `NAME` to `into`, which must live until the command has run.
  Option add_option(const std::string& names, std::string& into, const std::string& about = "");
  Option add_option(const std::string& names, std::vector<std::string>& into,
                    const std::string& about = "");
  Option add_option(const std::string& names, int& into, const std::string& about = "");
  Option add_option(const std::string& names, std::int64_t& into, const std::string& about = "");
  Option add_option(const std::string& names, double& into, const std::string& about = "");
  Option add_option(const std::string& names, std::uint16_t& into, const std::string& about = "");
  Option add_option(const std::string& names, std::uint32_t& into, const std::string& about = "");
  Option add_option(const std::string& names, std::uint64_t& into, const std::string& about = "");
  Option add_flag(const std::string& names, bool& into, const std::string& about = "");

 private:
  CLI::App* app_;
};

/// What a command says of itself: --help, man pages and completions are made from it.
struct CommandText {
  struct Entry {
    std::string names;                  ///< "--seconds", "-h,--help", or "FILE" of an argument
    std::vector<std::string> literals;  ///< "-h", "--help": what can be typed
    std::string value;                  ///< "SECONDS", with its range; empty for a flag
    std::string fallback;               ///< the default; may be empty
    std::string about;
    bool is_argument = false;
    bool is_required = false;
    bool is_file = false;  ///< its value names a file or folder
  };
  std::string name;  ///< "kwind ticket issue"
  std::string about;
  std::string footer;
  std::vector<Entry> entries;
  std::vector<CommandText> commands;
};

/// Reads the command line of `kwind`: `add` adds the commands. Prints what is wrong with it, or the
/// help. Returns the exit code, or nothing if a command was chosen.
class CommandLine {
 public:
  CommandLine(const std::string& about, const std::string& version, const std::string& footer);
  ~CommandLine();
  CommandLine(const CommandLine&) = delete;
  CommandLine& operator=(const CommandLine&) = delete;

  [[nodiscard]] Command root();
  /// Returns kNone if the line names a command, else the exit code: help or an error was printed.
  [[nodiscard]] int parse(int argc, char** argv);
  static constexpr int kNone = -1;
  /// The help of all commands.
  [[nodiscard]] std::string help() const;
  [[nodiscard]] CommandText text() const;

 private:
  CLI::App* app_;
};

}  // namespace kwind::tool
