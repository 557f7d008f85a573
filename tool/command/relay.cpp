// `kwind relay`: runs a relay by a settings file, reads it again on SIGHUP, and takes commands of
// whoever keeps it on standard input.
#include <fmt/chrono.h>
#include <fmt/format.h>

#include <atomic>
#include <csignal>
#include <ctime>
#include <filesystem>
#include <memory>

#include "commands.h"
#include "console.h"
#include "interrupt.h"
#include "key_text.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"
#include "kwind/ticket/ticket.h"
#include "relay/relay.h"

namespace kwind::tool {
namespace {

using namespace std::chrono_literals;

std::atomic<bool> g_reload = false;

struct RelayArguments {
  std::string settings;
  std::string description;
  std::string listen;
  bool print_settings = false;
  bool print_opaque = false;
  bool check = false;
};

// Everything that a run needs and that the settings decide.
struct Setup {
  std::string file = "the defaults";
  std::string text;
  relay::Settings settings;
  language::Compiled source;
};

// How settings that go to stdout name a description: settings name files from their own folder, and
// stdout may be a file in another one.
std::string name_from_stdout(const std::string& file) {
  namespace fs = std::filesystem;
  std::error_code error;
  const fs::path target = fs::read_symlink("/proc/self/fd/1", error);
  if (file.empty() || error || !fs::is_regular_file(target, error)) return file;
  if (fs::path(file).is_absolute()) return file;
  const fs::path from_there = fs::relative(file, target.parent_path(), error);
  return error ? file : from_there.string();
}

bool show(const std::vector<std::string>& problems) {
  for (const std::string& problem : problems) fmt::print(stderr, "{}\n", problem);
  return problems.empty();
}

// Reads the file again, for a start or a reload. Problems go to stderr.
bool read_settings(const RelayArguments& arguments, Setup& setup) {
  setup.text.clear();
  if (!arguments.settings.empty()) {
    setup.file = arguments.settings;
    if (!read_text(arguments.settings, setup.text)) {
      fmt::print(stderr,
                 "{}: cannot read the file; `kwind relay --settings` prints one to start from\n",
                 arguments.settings);
      return false;
    }
  }
  auto read = relay::read_settings(setup.file, setup.text);
  if (!show(read.problems)) return false;
  setup.settings = std::move(read.settings);
  // Files are named as seen from the settings, not from where the relay is started.
  const auto folder = std::filesystem::path(arguments.settings).parent_path();
  for (std::string* file :
       {&setup.settings.description, &setup.settings.key_file, &setup.settings.ticket_key}) {
    if (!file->empty()) *file = (folder / *file).string();
  }
  if (!arguments.description.empty()) setup.settings.description = arguments.description;
  if (!arguments.listen.empty()) setup.settings.listen = arguments.listen;
  return true;
}

bool read_rules(Setup& setup) {
  return show(relay::read_rules(setup.file, setup.text, setup.source.protocol, setup.settings));
}

// Settings first, then the description that they name, then the rules that need it.
bool load(const RelayArguments& arguments, Setup& setup) {
  if (!read_settings(arguments, setup)) return false;
  if (setup.settings.description.empty()) {
    setup.source = language::compile(relay::kOpaqueDescription, "opaque.kw");
  } else if (!load_source(setup.settings.description, setup.source)) {
    return false;
  }
  return read_rules(setup);
}

class RelayRun {
 public:
  RelayRun(const RelayArguments& arguments, Setup& setup)
      : arguments_(arguments), setup_(setup), tables_(setup.source.protocol) {}

  // All that can be told without a socket. Problems go to stderr.
  std::optional<Endpoint> prepare(host::ServerOptions& options) {
    const relay::Settings& settings = setup_.settings;
    const auto address = io::resolve(settings.listen);
    if (!address) {
      wrong(fmt::format("listen: {} is not HOST:PORT", settings.listen));
      return std::nullopt;
    }
    if (settings.plaintext && !address->is_loopback()) {
      wrong("`plaintext` is for this machine only; listen on 127.0.0.1, or encrypt");
      return std::nullopt;
    }
    if (!options_of(settings, options)) return std::nullopt;
    return *address;
  }

  // Opens transport, server and console, then loops until stopped.
  int run() {
    const relay::Settings& settings = setup_.settings;
    host::ServerOptions options;
    const auto address = prepare(options);
    if (!address) return kFoundWrong;
    auto transport = io::UdpTransport::open(*address);
    if (!transport) {
      return wrong(fmt::format("cannot listen on {}: {}", address->text(),
                               error_info(transport.error()).text));
    }
    console_.emplace("> ", [](std::string_view typed) {
      std::vector<std::string> found;
      for (const std::string& command : relay::Relay::commands()) {
        if (command.starts_with(typed)) found.push_back(command);
      }
      return found;
    });
    relay_.emplace(
        tables_, **transport, settings, options,
        relay::Relay::Operator{[this](const std::string& line) { print(line); },
                               [this](const std::string& line) { console_->print(line); }});
    greet((*transport)->local(), options);
    loop(**transport);
    return kFine;
  }

 private:
  static int wrong(const std::string& text) {
    fmt::print(stderr, "kwind relay: {}\n", text);
    return kFoundWrong;
  }

  // With the time of day; each line at once, as a log.
  void print(const std::string& line) {
    const std::time_t seconds = std::time(nullptr);
    std::tm local{};
    ::localtime_r(&seconds, &local);
    console_->print(fmt::format("{:%H:%M:%S}  {}", local, line));
  }

  // Settings as options of the server. False after a sentence about a file that cannot be used.
  bool options_of(const relay::Settings& settings, host::ServerOptions& options) {
    options.capacity = settings.max_clients;
    options.resume = settings.plaintext ? Duration{0} : seconds(settings.resume_seconds);
    options.tick_budget = {settings.messages_per_tick, settings.bytes_per_tick,
                           seconds(1 / settings.ticks_per_second), options.tick_budget.datagrams};
    options.max_faults = settings.max_faults;
    for (const auto& channel : setup_.source.protocol.channels) {
      options.queues.push_back({channel.name, settings.queue_messages, std::size_t{2} << 20,
                                settings.drop_slow ? link::AtLimit::close : link::AtLimit::refuse});
    }
    if (settings.plaintext) {
      options.plaintext = host::Plaintext::loopback_only;
      return true;
    }
    if (settings.key_file.empty()) {
      options.key = link::KeyPair::from_secret(io::random_secret());
    } else {
      const auto key = key_pair_of(settings.key_file);
      if (!key) return false;
      options.key = *key;
    }
    if (!settings.password.empty()) {
      gate_ = std::make_unique<relay::PasswordGate>(settings.password);
    } else if (!settings.ticket_key.empty()) {
      std::string text;
      const auto key = read_text(settings.ticket_key, text)
                           ? ticket::verify_key_from_jwk(text)
                           : Result<ticket::VerifyKey>(fail(Errc::bad_key));
      if (!key) {
        fmt::print(stderr, "{}: no file with an Ed25519 key; `kwind keys` writes ticket.pub\n",
                   settings.ticket_key);
        return false;
      }
      gate_ = std::make_unique<ticket::Gate>(*key, options.key->public_key);
    }
    options.gate = gate_.get();
    return true;
  }
  static Duration seconds(double count) {
    return Duration(static_cast<Duration::rep>(count * 1e9));
  }

  // Address, key and description: all that a client needs.
  void greet(const Endpoint& local, const host::ServerOptions& options) {
    const relay::Settings& settings = setup_.settings;
    const std::string file = settings.description.empty() ? "opaque.kw" : settings.description;
    print(fmt::format("relaying {}, up to {} clients, on {}",
                      settings.description.empty() ? "opaque bytes" : setup_.source.protocol.name,
                      settings.max_clients, local.text()));
    if (options.key) {
      print("public key " + link::key_text(options.key->public_key));
      if (settings.key_file.empty()) print("a new key each start; `kwind keys` makes one to keep");
    } else {
      print("plaintext: nothing is encrypted");
    }
    print(fmt::format("try it: kwind talk {} --server {} {}{}", file, io::reachable(local).text(),
                      options.key ? "--server-key " + link::key_text(options.key->public_key)
                                  : std::string("--plaintext"),
                      gate_ == nullptr            ? ""
                      : settings.password.empty() ? " --ticket FILE"
                                                  : " --ticket PASSWORD"));
  }

  // Receive, run what is due, send, wait; until everybody has gone after a stop.
  void loop(io::UdpTransport& transport) {
    std::optional<Time> end;
    while (!end || (io::now() < *end && !relay_->empty())) {
      const Time now = io::now();
      relay_->receive(now);
      console_->read([this](const std::string& line) { typed(line); });
      // A terminal that is closed, or says that its input ends, wants an end; a pipe may have said
      // all that it will.
      if (console_->is_terminal() && console_->ended()) quit_ = true;
      if (g_reload.exchange(false)) reload();
      if ((interrupted() || quit_) && !end) {
        print("closing all connections");
        end = now + 2s;
      }
      // Who comes meanwhile as well.
      if (end) {
        relay_->close_all(quit_ ? "the relay was closed" : "the relay is shutting down");
      }
      relay_->flush(now);
      const Time next = console_->has_lines() ? now : now + 200ms;
      const Time until = std::min({relay_->next_wakeup(), next, end ? *end : kNever});
      const std::array<int, 1> also{console_->descriptor()};
      const std::array<io::PollableTransport*, 1> transports{&transport};
      io::wait_for_any(transports, until, also);
    }
    print("ended");
  }

  // A line of the console.
  void typed(const std::string& line) {
    if (line == "quit") {
      quit_ = true;
    } else if (line == "reload") {
      reload();
    } else if (const std::string problem = relay_->command(line); !problem.empty()) {
      console_->print(problem);
    }
  }

  // Reads the settings again. A file that is wrong changes nothing.
  void reload() {
    if (arguments_.settings.empty()) return print("there is no settings file to read again");
    Setup fresh;
    fresh.source = setup_.source;
    if (!read_settings(arguments_, fresh)) return print("the settings stay as they were");
    // The rules have to do for as many clients as there may be now, not from the next start.
    const auto wanted = std::exchange(fresh.settings.max_clients, setup_.settings.max_clients);
    if (!read_rules(fresh)) return print("the settings stay as they were");
    fresh.settings.max_clients = wanted;
    const auto fixed = relay::fixed_changes(setup_.settings, fresh.settings);
    relay_->set_rules(fresh.settings);
    print(fixed.empty() ? std::string("settings read again")
                        : fmt::format("settings read again; with the next start: {}",
                                      fmt::join(fixed, ", ")));
  }

  const RelayArguments& arguments_;
  Setup& setup_;
  schema::Tables tables_;
  std::unique_ptr<link::TicketGate> gate_;
  std::optional<Console> console_;
  std::optional<relay::Relay> relay_;
  bool quit_ = false;
};

// Prints what was asked for, or runs.
int run_relay(const RelayArguments& arguments) {
  if (arguments.print_opaque) {
    fmt::print("{}", relay::kOpaqueDescription);
    return kFine;
  }
  if (arguments.print_settings) {
    language::Compiled source;
    if (!arguments.description.empty() && !load_source(arguments.description, source)) {
      return kFoundWrong;
    }
    fmt::print("{}",
               relay::settings_text(arguments.description.empty() ? nullptr : &source.protocol,
                                    name_from_stdout(arguments.description)));
    return kFine;
  }
  Setup setup;
  if (!load(arguments, setup)) return kFoundWrong;
  if (arguments.check) {
    for (const schema::MessageType& message : setup.source.protocol.messages) {
      if (message.owner_field.empty()) continue;
      fmt::print("{}: {} is from the owner of {} only; a relay knows no owners and drops it\n",
                 setup.file, message.name, message.owner_field);
    }
    host::ServerOptions options;
    if (!RelayRun(arguments, setup).prepare(options)) return kFoundWrong;
    fmt::print("{}: fine\n", setup.file);
    return kFine;
  }
  watch_interrupts();
  std::signal(SIGHUP, [](int) { g_reload = true; });
  return RelayRun(arguments, setup).run();
}

}  // namespace

// The options of `kwind relay`.
void add_relay(Command app, std::function<int()>& chosen) {
  auto arguments = std::make_shared<RelayArguments>();
  Command command = app.add_subcommand(
      "relay", "A ready-made server: passes messages on between clients, by rules in a file");
  command.add_option("SETTINGS", arguments->settings,
                     "The settings, a TOML file; defaults without");
  command.add_option("--description", arguments->description, "The description to relay")
      .type_name("FILE.kw");
  command.add_option("--listen", arguments->listen, "Where to listen, in place of the settings'")
      .type_name("HOST:PORT");
  command.add_flag("--settings", arguments->print_settings,
                   "Print a complete settings file; with --description, rules for its messages");
  command.add_flag("--opaque", arguments->print_opaque,
                   "Print the description that clients of opaque bytes use");
  command.add_flag("--check", arguments->check, "Only say whether the settings are fine");
  command.footer(
      "Example:\n  kwind relay --settings --description game.kw > relay.toml\n"
      "  kwind relay relay.toml\n\n"
      "Reads commands while it runs; `help` lists them. SIGHUP reads the settings again, SIGTERM "
      "closes all connections and ends.");
  command.callback(
      [arguments, &chosen] { chosen = [arguments] { return run_relay(*arguments); }; });
}

}  // namespace kwind::tool
