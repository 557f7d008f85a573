// `kwind diagnose`: why a client cannot reach a server.
#include <fmt/format.h>

#include <memory>
#include <nlohmann/json.hpp>

#include "commands.h"
#include "diagnose/diagnose.h"
#include "key_text.h"
#include "kwind/json/text.h"
#include "kwind/link/spec.h"

namespace kwind::tool {
namespace {

struct DiagnoseArguments {
  DiagnoseOptions options;
  std::string description;
  std::string key;
  std::string ticket;
  bool json = false;
};

// One line for each step; exit code 1 at the first one that is wrong.
int run_diagnose(DiagnoseArguments arguments) {
  DiagnoseOptions& options = arguments.options;
  if (!arguments.key.empty()) {
    const auto key = public_key_of(arguments.key);
    if (!key) return kFoundWrong;
    options.key = *key;
  }
  if (options.plaintext && (options.key || !arguments.ticket.empty())) {
    fmt::print(stderr, "kwind diagnose: --plaintext goes with neither --server-key nor --ticket\n");
    return kUsedWrongly;
  }
  if (!arguments.ticket.empty()) {
    if (!options.key) {
      fmt::print(stderr, "--ticket: needs --server-key; a ticket travels only encrypted\n");
      return kUsedWrongly;
    }
    options.ticket = text_or_file(arguments.ticket);
    if (options.ticket.size() > link::kMaxTicketBytes) {
      fmt::print(stderr, "--ticket: longer than {} bytes\n", link::kMaxTicketBytes);
      return kUsedWrongly;
    }
  }
  language::Compiled source;
  if (!arguments.description.empty()) {
    if (!load_source(arguments.description, source)) return kFoundWrong;
    options.protocol = &source.protocol;
  }
  nlohmann::ordered_json steps = nlohmann::ordered_json::array();
  const bool fine = diagnose(options, [&](const Step& step) {
    static constexpr const char* kFound[] = {"fine", "WRONG", "?"};
    const char* found = kFound[static_cast<std::size_t>(step.found)];
    if (arguments.json) {
      static constexpr const char* kNames[] = {"fine", "wrong", "unknown"};
      steps.push_back({{"step", step.name},
                       {"found", kNames[static_cast<std::size_t>(step.found)]},
                       {"text", step.text}});
      if (!step.advice.empty()) steps.back()["advice"] = step.advice;
      return;
    }
    fmt::print("{:<13} {:<5}  {}\n", step.name, found, step.text);
    if (!step.advice.empty()) fmt::print("{:<13} {:<5}  {}\n", "", "", step.advice);
    std::fflush(stdout);
  });
  if (arguments.json) {
    fmt::print("{}\n",
               json::text_of({{"address", options.address}, {"fine", fine}, {"steps", steps}}, 2));
  }
  return fine ? kFine : kFoundWrong;
}

}  // namespace

// The options of `kwind diagnose`.
void add_diagnose(Command app, std::function<int()>& chosen) {
  auto arguments = std::make_shared<DiagnoseArguments>();
  Command command =
      app.add_subcommand("diagnose", "Find out why a client cannot reach a server, step by step");
  command
      .add_option("--server", arguments->options.address,
                  "The server; its web socket: ws://HOST:PORT/PATH")
      .required()
      .type_name("HOST:PORT");
  command
      .add_option("--server-key", arguments->key,
                  "Its public key, or a file with it; without, the diagnosis ends at the cookie")
      .type_name("KEY|FILE");
  command.add_option("--description", arguments->description, "The game's description")
      .type_name("FILE.kw");
  command
      .add_option("--ticket", arguments->ticket, "A ticket, or a file with it; it counts as used")
      .type_name("TICKET|FILE");
  command.add_flag("--plaintext", arguments->options.plaintext, "The server sends plaintext");
  command.add_flag("--tcp", arguments->options.tcp, "Over TCP instead of UDP");
  command.add_option("--seconds", arguments->options.seconds, "How long the path is measured")
      .range(0.5, 600.0)
      .capture_default_str();
  command.add_flag("--json", arguments->json, "Print one JSON object");
  command.footer(
      "Example:\n  kwind diagnose --server 127.0.0.1:4000 --server-key secrets/server.pub "
      "--description "
      "examples/harbour/harbour.kw\n"
      "Ends with the first step that is wrong, and says what to do about it.");
  command.callback(
      [arguments, &chosen] { chosen = [arguments] { return run_diagnose(*arguments); }; });
}

}  // namespace kwind::tool
