// `kwind talk`: one end of a connection at the terminal, or played from a script.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <memory>
#include <nlohmann/json.hpp>

#include "address/address.h"
#include "commands.h"
#include "console.h"
#include "interrupt.h"
#include "key_text.h"
#include "kwind/io/clock.h"
#include "kwind/json/line.h"
#include "kwind/json/text.h"
#include "talk/end.h"
#include "talk/print.h"
#include "talk/script.h"

namespace kwind::tool {
namespace {

using namespace std::chrono_literals;
using talk::Event;

struct TalkArguments {
  std::string description;
  talk::EndOptions end;
  std::string key;
  std::string key_file;
  std::string ticket;
  bool plaintext = false;
  std::string script;
  bool json = false;
  double seconds = 0;
  double idle_timeout_seconds = 10;
  double resume_seconds = 0;
};

Duration duration_of(double seconds) {
  return Duration(static_cast<Duration::rep>(seconds * 1e9));
}

const std::vector<std::string> kCommands = {"help",  "types",  "who",   "stats", "to",
                                            "reply", "refuse", "close", "quit"};

constexpr const char* kHelp =
    "MESSAGE FIELD=VALUE ...   send, or ask if it is a request: Hail words=\"ahoy there\" "
    "tone=urgent\n"
    "MESSAGE {JSON}            the same\n"
    "to PEER MESSAGE ...       to one client, not to all (as a server)\n"
    "reply FIELD=VALUE ...     answer the oldest request that waits\n"
    "refuse REASON [WORDS]     ... by a refusal\n"
    "types [MESSAGE]           what can be sent; the fields of one\n"
    "who, stats                who is connected; what went over the wire\n"
    "close [PEER] [REASON]     end a connection\n"
    "quit                      end all, and this";

class Conversation {
 public:
  Conversation(const TalkArguments& arguments, const schema::Tables& tables)
      : arguments_(arguments), tables_(tables), protocol_(tables.protocol()) {}

  // Plays the script's steps, then reads lines, until the end.
  int run(std::vector<talk::Step> steps) {
    std::string why;
    end_ = talk::End::open(tables_, arguments_.end, why);
    if (!end_) {
      fmt::print(stderr, "kwind talk: {}\n", why);
      return kFoundWrong;
    }
    is_client_ = !arguments_.end.connect.empty();
    const bool scripted = !arguments_.script.empty();
    if (scripted) script_.emplace(*end_, protocol_, std::move(steps));
    if (!scripted) {
      console_.emplace("> ", [this](std::string_view typed) {
        return json::completions(protocol_, end_->way(), kCommands, typed);
      });
    }
    start_ = io::now();
    end_->tell = [this](const Event& event) { happened(event); };
    greet();
    loop();
    if (script_ && script_->failure().empty() && !script_->done()) {
      fmt::print(stderr, "{}: ended before it was through{}\n", arguments_.script,
                 lost_.empty() ? "" : ": " + lost_);
      return kFoundWrong;
    }
    if (script_ && !script_->failure().empty()) {
      fmt::print(stderr, "{}: {}\n", arguments_.script, script_->failure());
      return kFoundWrong;
    }
    if (script_) remark(fmt::format("{}: all {} steps held", arguments_.script, steps_));
    const bool all_sent = !wrong_ || !console_ || console_->is_terminal();
    if (!script_ && is_client_ && !connected_ && lost_.empty()) {
      fmt::print(stderr, "kwind talk: {} did not answer, and nothing was sent\n",
                 arguments_.end.connect);
      return kFoundWrong;
    }
    return script_ || (lost_.empty() && all_sent) ? kFine : kFoundWrong;
  }
  void count_steps(std::size_t steps) { steps_ = steps; }

 private:
  // Above the line that is being typed.
  void print(std::string_view line) {
    if (console_) {
      console_->print(line);
    } else {
      fmt::print("{}\n", line);
      std::fflush(stdout);
    }
  }
  // What is not a message goes to stderr where lines are JSON.
  void remark(std::string_view line) {
    if (arguments_.json) {
      fmt::print(stderr, "{}\n", line);
    } else {
      print(line);
    }
  }

  // Whom this end calls, or where it can be reached.
  void greet() {
    if (is_client_) return remark(fmt::format("calling {} ...", arguments_.end.connect));
    const std::string address = io::reachable(end_->transport().local()).text();
    remark(fmt::format("listening: kwind talk {} --server {} {}", arguments_.description, address,
                       arguments_.end.key
                           ? "--server-key " + link::key_text(arguments_.end.key->public_key)
                           : std::string("--plaintext")));
  }

  // One event as a line, or as JSON.
  void happened(const Event& event) {
    print(arguments_.json ? talk::event_json(protocol_, event, start_)
                          : talk::event_line(protocol_, event, start_, !is_client_));
    if (script_) script_->note(event);
    if (event.what == Event::What::connected || event.what == Event::What::back) connected_ = true;
    if (is_client_ && event.what == Event::What::gone && event.code != Errc::closed_here) {
      lost_ = event.text;
    }
  }

  // The end of the connection, a signal, or the time that was given ends it.
  void loop() {
    const Time until = arguments_.seconds > 0 ? start_ + duration_of(arguments_.seconds) : kNever;
    while (!end_->ended()) {
      const Time now = io::now();
      end_->receive(now);
      const bool may_talk = connected_ || !is_client_;
      if (script_ && may_talk && !closing_) {
        script_->step(now);
        if (script_->done() || !script_->failure().empty()) close("the script is through");
      }
      // Lines of a pipe wait until there is somebody to hear them.
      const bool reads = console_ && (console_->is_terminal() || connected_);
      if (reads) console_->read([this](const std::string& line) { typed(line); });
      if (console_ && console_->ended() && arguments_.seconds <= 0 && (connected_ || is_client_)) {
        close("the input has ended");
      }
      if (now >= until || interrupted()) close("the time is up");
      end_->flush(now);
      if (end_->ended()) break;
      Time next = std::min(end_->next_wakeup(), now + 1s);
      if (script_) next = std::min(next, script_->next_wakeup());
      if (!closing_) next = std::min(next, until);
      const std::array<int, 1> also{reads ? console_->descriptor() : -1};
      const std::array<io::PollableTransport*, 1> transports{&end_->transport()};
      io::wait_for_any(transports, next, also);
    }
  }

  void close(std::string_view reason) {
    if (std::exchange(closing_, true)) return;
    end_->close_all(interrupted() ? "interrupted" : reason);
  }

  // A line of the console: a message as JSON, or in words, or a command.
  void typed(const std::string& line) {
    const auto words = json::words_of(line);
    if (words.empty()) return;
    const std::string problem =
        words[0].starts_with('{') ? json_line(line) : text_line(line, words);
    if (problem.empty()) return;
    if (arguments_.json) {
      print(json::text_of(nlohmann::ordered_json{{"event", "problem"}, {"text", problem}}));
    } else {
      print(fmt::format("           not sent: {}", problem));
    }
    wrong_ = true;
  }

  // {"type":"Hail","fields":{...},"to":2}
  std::string json_line(const std::string& line) {
    const auto parsed = json::parse_text(line);
    const nlohmann::ordered_json json = parsed ? *parsed : nlohmann::ordered_json();
    if (!json.is_object() || !json.contains("type") || !json["type"].is_string()) {
      return "write {\"type\":\"MESSAGE\",\"fields\":{...}}, with \"to\":PEER if it is for one";
    }
    for (const auto& [key, ignored] : json.items()) {
      if (key != "type" && key != "fields" && key != "to") {
        return fmt::format("{} is not known here; there are type, fields, to", json::shown(key));
      }
    }
    const auto kind = json::find_type(protocol_, json["type"].get<std::string>());
    if (!kind) return kind.error();
    const auto& fields = protocol_.messages[*kind].fields;
    const auto value =
        json::from_json(protocol_, fields, json.value("fields", nlohmann::ordered_json::object()));
    if (!value) return value.error();
    if (auto problem = json::out_of_range(protocol_, fields, *value)) return *problem;
    const bool has_to = json.contains("to");
    const auto to = has_to ? peer_of(json::text_of(json["to"])) : std::optional<std::uint32_t>(0);
    if (!to) return "\"to\" is the number of a client; `who` lists them";
    return end_->say(*to, *kind, *value);
  }

  // Opaque bytes are typed as text.
  std::string text_line(const std::string& line, const std::vector<std::string_view>& words) {
    const std::string first(words[0]);
    const auto from = [&](std::size_t word) {
      return word < words.size()
                 ? line.substr(static_cast<std::size_t>(words[word].data() - line.data()))
                 : std::string();
    };
    if (first == "help") return remark(kHelp), "";
    if (first == "quit") return close("quit"), "";
    if (first == "stats") return remark("           " + end_->stats()), "";
    if (first == "reply") return end_->reply(from(1));
    if (first == "refuse") return end_->refuse(from(1));
    if (first == "who") return who(), "";
    if (first == "types") return types(words);
    const bool names_one = (first == "to" || first == "close") && words.size() > 1;
    const std::uint32_t peer = names_one ? peer_of(words[1]).value_or(0) : 0;
    if (first == "close") {
      const auto all = end_->who();
      if (is_client_) return close(words.size() > 1 ? from(1) : "closed by hand"), "";
      if (std::find(all.begin(), all.end(), peer) == all.end())
        return "write `close PEER`; `who` lists them";
      return end_->close(peer, words.size() > 2 ? from(2) : "closed by hand"), "";
    }
    if (first == "to" && (peer == 0 || words.size() < 3)) {
      return "write `to PEER MESSAGE FIELDS`, as a server; `who` lists the clients";
    }
    auto message = json::parse_line(protocol_, first == "to" ? from(2) : line);
    if (!message) {
      const bool known = first == "to" || json::find_type(protocol_, first);
      const bool hints = message.error().ends_with('?');
      return message.error() + (known || hints ? "" : "; `help` lists what can be done");
    }
    return end_->say(peer, message->kind, message->value);
  }

  // A client talks to its server alone.
  [[nodiscard]] std::optional<std::uint32_t> peer_of(std::string_view word) const {
    std::uint32_t number = 0;
    const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), number);
    const bool whole = error == std::errc() && end == word.data() + word.size();
    return whole && number > 0 && !is_client_ ? std::optional(number) : std::nullopt;
  }

  // Everybody who is connected, with address and round trip.
  void who() {
    const auto all = end_->who();
    if (all.empty()) return remark("           nobody is connected");
    if (is_client_) return remark("           the server");
    remark(fmt::format("           clients {}", fmt::join(all, ", ")));
  }

  // All types, or the fields of one.
  std::string types(const std::vector<std::string_view>& words) {
    if (words.size() > 1) {
      const auto kind = json::find_type(protocol_, words[1]);
      if (!kind) return kind.error();
      for (const auto& field : protocol_.messages[*kind].fields) {
        remark(fmt::format("           {:<12} {}", field.name,
                           schema::type_text(protocol_, field.type)));
      }
      return {};
    }
    for (const auto& message : protocol_.messages) {
      const bool ours =
          message.direction == schema::Direction::both || message.direction == end_->way();
      remark(fmt::format("           {:<4}  {:<8}  {}", ours ? "send" : "get",
                         protocol_.channels[message.channel].name, message.name));
    }
    return {};
  }

  const TalkArguments& arguments_;
  const schema::Tables& tables_;
  const schema::Protocol& protocol_;
  std::unique_ptr<talk::End> end_;
  std::optional<Console> console_;
  std::optional<talk::ScriptRun> script_;
  std::size_t steps_ = 0;
  Time start_{};
  bool is_client_ = true;
  bool connected_ = false;
  bool closing_ = false;
  bool wrong_ = false;
  std::string lost_;
};

// Checks the options, then runs as a client or as a server.
int run_talk(TalkArguments arguments) {
  language::Compiled source;
  if (!load_source(arguments.description, source)) return kFoundWrong;
  const schema::Tables tables(source.protocol);
  const bool is_client = !arguments.end.connect.empty();
  if (arguments.plaintext) {
    arguments.end.plaintext = host::Plaintext::loopback_only;
  } else if (is_client) {
    if (arguments.key.empty()) {
      fmt::print(stderr, "kwind talk: --server takes the server's --server-key, or --plaintext\n");
      return kUsedWrongly;
    }
    const auto key = public_key_of(arguments.key);
    if (!key) return kFoundWrong;
    arguments.end.server_key = *key;
  } else if (!arguments.key_file.empty()) {
    const auto key = key_pair_of(arguments.key_file);
    if (!key) return kFoundWrong;
    arguments.end.key = *key;
  } else {
    arguments.end.key = link::KeyPair::from_secret(io::random_secret());
  }
  if (!take_ticket("talk", arguments.ticket, arguments.plaintext, arguments.end.ticket)) {
    return kUsedWrongly;
  }
  if (arguments.plaintext) {
    const std::string& name = is_client ? arguments.end.connect : arguments.end.listen;
    const auto address = io::resolve(name);
    const auto server = parse_server_address(name);
    if (is_client ? server && !server->endpoint.is_loopback()
                  : address && !address->is_loopback()) {
      fmt::print(stderr, "kwind talk: --plaintext is for this machine only, and {} is not\n", name);
      return kUsedWrongly;
    }
    if (!arguments.key.empty() || !arguments.key_file.empty()) {
      fmt::print(stderr, "kwind talk: --plaintext encrypts nothing; leave the key out\n");
      return kUsedWrongly;
    }
  }
  arguments.end.idle_timeout = duration_of(arguments.idle_timeout_seconds);
  arguments.end.return_time = duration_of(arguments.resume_seconds);
  std::vector<talk::Step> steps;
  if (!arguments.script.empty()) {
    std::string text;
    if (!read_text(arguments.script, text)) {
      fmt::print(stderr, "{}: cannot be read\n", arguments.script);
      return kFoundWrong;
    }
    std::vector<std::string> problems;
    steps = talk::parse_script(source.protocol, arguments.script, text, problems);
    for (const std::string& problem : problems) fmt::print(stderr, "{}\n", problem);
    if (!problems.empty()) return kFoundWrong;
  }
  watch_interrupts();
  Conversation conversation(arguments, tables);
  conversation.count_steps(steps.size());
  return conversation.run(std::move(steps));
}

}  // namespace

// The options of `kwind talk`.
void add_talk(Command app, std::function<int()>& chosen) {
  auto arguments = std::make_shared<TalkArguments>();
  Command command = app.add_subcommand(
      "talk",
      "Talk to a server by hand or by script, or be one that a client can be tried against");
  command.add_option("FILE", arguments->description, "The description, a .kw file").required();
  Option connect =
      command
          .add_option("--server", arguments->end.connect,
                      "Be a client of this server; over a web socket: ws://HOST:PORT/PATH")
          .type_name("HOST:PORT");
  command.add_option("--listen", arguments->end.listen, "Be a server on this address")
      .type_name("HOST:PORT")
      .capture_default_str()
      .excludes(connect);
  command.add_option("--server-key", arguments->key, "The server's public key, or a file with it")
      .type_name("KEY|FILE")
      .needs(connect);
  command
      .add_option("--secret-key-file", arguments->key_file,
                  "As a server: its secret key, of `kwind keys`; a new one if not given")
      .type_name("FILE")
      .excludes(connect);
  command
      .add_option("--ticket", arguments->ticket, "The ticket or password that the server asks for")
      .type_name("TEXT|FILE")
      .needs(connect);
  command
      .add_option("--resume", arguments->resume_seconds,
                  "Try so long to come back when the connection broke or the server restarted; as "
                  "a server: how long a client may")
      .type_name("SECONDS")
      .range(0.0, 3600.0);
  command.add_option("--idle-timeout", arguments->idle_timeout_seconds, "What counts as broken")
      .type_name("SECONDS")
      .range(0.5, 600.0)
      .capture_default_str();
  command.add_flag("--plaintext", arguments->plaintext, "Encrypt nothing; on this machine only");
  command.add_option("--script", arguments->script, "Do what a file says, and check what comes")
      .type_name("FILE");
  command.add_flag("--json", arguments->json, "One JSON object a line, out and in");
  command.add_option("--seconds", arguments->seconds, "End after so long").range(0.1, 1e6);
  command.footer(
      "Examples:\n  kwind talk examples/harbour/harbour.kw\n"
      "  kwind talk examples/harbour/harbour.kw --server 127.0.0.1:4000 --server-key KEY\n"
      "  > Hail words=\"ahoy there\" tone=urgent\n"
      "A script has lines such as `send Enter name=Tern`, `expect Notice words=ahoy within 2s`,\n"
      "`expect no Departure within 1s`, `wait 500ms`, `reply line=2`; see docs/talk.md.");
  command.callback([arguments, &chosen] { chosen = [arguments] { return run_talk(*arguments); }; });
}

}  // namespace kwind::tool
