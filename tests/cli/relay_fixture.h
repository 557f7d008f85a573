// Relays and talks as processes, for the tests of both.
#pragma once
#include <memory>
#include <sstream>

#include "cli/cli_fixture.h"

namespace kwind {

inline const std::string kPier = KWIND_SOURCE_DIR "/examples/pier/pier.kw";
inline const std::string kTern = KWIND_SOURCE_DIR "/examples/pier/tern.talk";
inline const std::string kHeron = KWIND_SOURCE_DIR "/examples/pier/heron.talk";

// The word behind `option` in what a relay or a listening talk prints about how to reach it.
inline std::string word_after(const std::string& text, const std::string& option) {
  const std::size_t at = text.find(option);
  if (at == std::string::npos) return {};
  std::istringstream rest(text.substr(at + option.size()));
  std::string word;
  rest >> word;
  return word;
}

class RelayTest : public Cli {
 protected:
  // The pier, with more lines in front of its tables.
  std::string settings(const std::string& lines = "", const std::string& tables = "") {
    std::string text = read(KWIND_SOURCE_DIR "/examples/pier/pier.toml");
    const std::size_t listen = text.find("listen = ");
    text.replace(listen, text.find('\n', listen) - listen, "listen = \"127.0.0.1:0\"\n" + lines);
    write("pier.kw", read(kPier));
    return write("pier.toml", text + tables);
  }
  std::unique_ptr<Process> start(std::vector<std::string> arguments) {
    std::vector<std::string> command = {kKwind, "relay"};
    command.insert(command.end(), arguments.begin(), arguments.end());
    auto relay = std::make_unique<Process>(command);
    EXPECT_TRUE(relay->wait_for("try it: kwind talk")) << relay->err();
    relay->read_to_end_of_line();
    address_ = word_after(relay->out(), "--server ");
    key_ = word_after(relay->out(), "--server-key ");
    return relay;
  }
  std::vector<std::string> talking(std::vector<std::string> more, const std::string& file = kPier) {
    std::vector<std::string> command = {kKwind, "talk", file, "--server", address_};
    command.insert(command.end(), {"--server-key", key_});
    command.insert(command.end(), more.begin(), more.end());
    return command;
  }
  std::string script(const std::string& text) {
    return write("script" + std::to_string(++scripts_) + ".talk", text);
  }
  Finished play(const std::string& text, std::vector<std::string> more = {}) {
    more.insert(more.end(), {"--script", script(text)});
    return run(talking(more));
  }

  std::string address_;
  std::string key_;
  int scripts_ = 0;
};

}  // namespace kwind
