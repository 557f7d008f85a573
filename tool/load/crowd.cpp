// All bots in one thread: each turn receives, speaks and sends for every bot, then waits for all
// sockets at once. How long a turn takes is measured, because times that bots see cannot be finer.
#include "load/crowd.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "address/address.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"
#include "kwind/replica/inputs.h"

namespace kwind::bots {
namespace {

using namespace std::chrono_literals;

constexpr Duration kLatestWord = 200ms;
constexpr Duration kBetweenLooks = 250ms;  // at what a link counts
constexpr Duration kLongestTurn = 5ms;     // timers of links run so often at least
constexpr Duration kAnswerTime = 5s;
constexpr std::size_t kToAnAddress = 8;  // servers limit how often one address may try

double ms(Duration time) {
  return std::chrono::duration<double, std::milli>(time).count();
}

}  // namespace

struct Crowd::Bot {
  std::unique_ptr<io::PollableTransport> transport;
  std::unique_ptr<host::Client> client;
  std::unique_ptr<replica::ClientWorld> client_world;
  std::unique_ptr<replica::InputSender> reports;  // and requests for a full resync
  Time dialled{};
  bool there = false;
  bool closing = false;
  bool done = false;
  Time last_frame{};
  Time next_word{};
  Time next_look{};
  link::Stats before;
};

// Message types that a client may send, each with its own beat.
Crowd::Crowd(CrowdOptions options)
    : options_(std::move(options)), numbers_(options_.seed), since_(io::now()) {
  if (options_.tables == nullptr || options_.rate <= 0) return;
  for (const schema::MessageInfo& info : options_.tables->info().messages) {
    const bool ours = info.direction != schema::Direction::from_server &&
                      info.role != schema::MessageRole::answer && info.owner_field.empty();
    if (ours) sayable_.push_back(info.type);
  }
}

Crowd::~Crowd() = default;

std::size_t Crowd::there() const {
  return static_cast<std::size_t>(
      std::count_if(bots_.begin(), bots_.end(), [](const auto& bot) { return bot->there; }));
}

// Opens further bots; a sentence if the system has no more sockets.
std::string Crowd::grow_to(std::size_t count) {
  const Time now = io::now();
  while (bots_.size() < count) {
    const std::size_t number = bots_.size();
    Endpoint from = io::local_for(options_.server);
    if (options_.server.is_loopback() && options_.server.is_v4()) {
      const std::size_t place = number / kToAnAddress;
      from = Endpoint::v4(127, 1, static_cast<std::uint8_t>(place / 250),
                          static_cast<std::uint8_t>(1 + place % 250), 0);
    }
    auto transport = tool::open_transport_to({options_.server, options_.web_socket}, from);
    if (!transport) {
      return fmt::format("bot {} gets no socket: {}; `ulimit -n` says how many files may be open",
                         number + 1, error_info(transport.error()).text);
    }
    auto bot = std::make_unique<Bot>();
    bot->transport = std::move(*transport);
    dial(*bot, now);
    transports_.push_back(bot->transport.get());
    bots_.push_back(std::move(bot));
  }
  return {};
}

// One bot's connection, with handlers that only count.
void Crowd::dial(Bot& bot, Time now) {
  host::ClientOptions who;
  who.server_key = options_.key;
  who.ticket = options_.ticket;
  if (!options_.key) who.plaintext = host::Plaintext::loopback_only;
  bot.dialled = now;
  bot.client =
      std::make_unique<host::Client>(*bot.transport, options_.server, *options_.protocol, now, who);
  if (options_.entities != nullptr) {
    bot.client_world =
        std::make_unique<replica::ClientWorld>(*options_.entities, options_.ticks_per_second);
    bot.reports = std::make_unique<replica::InputSender>(*bot.client_world);
  }
  Bot* const self = &bot;
  bot.client->on_connect([this, self] {
    self->there = true;
    const Time at = io::now();
    seen_.connecting.add(ms(at - self->dialled));
    // Spread over a second, not all at once.
    self->next_word = at + Duration(static_cast<Duration::rep>(numbers_.up_to(1'000'000'000)));
    self->next_look = at + kBetweenLooks;
  });
  bot.client->on_disconnect([this, self](Errc code, std::string_view reason) {
    self->there = false;
    if (code != Errc::closed_here) ++seen_.ends[host::explain_end(code, reason)];
  });
  bot.client->on_unhandled([this](const route::RawMessage&) { ++seen_.messages_received; });
  bot.client->on_payload([this, self](std::span<const std::byte> payload, std::size_t bits) {
    if (self->client_world == nullptr) return Errc::unexpected;
    const Errc error = self->client_world->receive(payload, bits);
    (void)self->client_world->take_events();
    const Time at = io::now();
    if (self->last_frame != Time{}) seen_.gaps.add(ms(at - self->last_frame));
    self->last_frame = at;
    seen_.state_bits += bits;
    ++seen_.snapshots;
    if (error != Errc::none && error != Errc::replayed) ++seen_.snapshots_refused;
    return error;
  });
}

// Anything that the description allows a client to say.
void Crowd::say_something(Bot& bot, Time now) {
  const double wait = (0.5 + static_cast<double>(numbers_.up_to(1000)) / 1000) / options_.rate;
  bot.next_word += Duration(static_cast<Duration::rep>(wait * 1e9));
  const std::size_t kind = sayable_[numbers_.up_to(sayable_.size() - 1)];
  const schema::Protocol& protocol = options_.tables->protocol();
  const schema::Value value = schema::sample_value(protocol, protocol.messages[kind].fields,
                                                   schema::SampleSize::typical, numbers_);
  const schema::AnyMessage message(*options_.tables, kind, value);
  Errc error = Errc::none;
  if (message.info().role == schema::MessageRole::request) {
    error = bot.client->request_any(
        message, kAnswerTime,
        [this, now](route::Ending, Errc, const bits::Reader* fields, schema::Layout*) {
          if (fields == nullptr) {
            ++seen_.requests_unanswered;
          } else {
            seen_.answers.add(ms(io::now() - now));
          }
          return Errc::none;
        });
  } else {
    error = bot.client->send(message);
  }
  ++(error == Errc::none ? seen_.messages_sent : seen_.messages_refused);
}

// Round trip and loss of a bot, some times a second.
void Crowd::look_at_link(Bot& bot, Time now) {
  bot.next_look = now + kBetweenLooks;
  const link::Stats& stats = bot.client->stats();
  if (stats.smoothed_rtt > Duration{0}) seen_.round_trips.add(ms(stats.smoothed_rtt));
}

// Adds the link's traffic since the last look.
void Crowd::count_traffic(Bot& bot) {
  const link::Stats& stats = bot.client->stats();
  const auto sent = stats.datagrams_sent - bot.before.datagrams_sent;
  const auto lost = stats.packets_lost - bot.before.packets_lost;
  if (sent > 0) {
    seen_.losses.add(std::min(100.0, 100 * static_cast<double>(lost) / static_cast<double>(sent)));
  }
  seen_.datagrams_sent += sent;
  seen_.packets_lost += lost;
  seen_.bytes_out += stats.bytes_sent - bot.before.bytes_sent;
  seen_.bytes_in += stats.bytes_received - bot.before.bytes_received;
  bot.before = stats;
}

// One turn of a bot: receive, send what is due, flush.
void Crowd::turn(Bot& bot, Time now) {
  if (bot.done) return;
  bot.client->receive(now);
  if (bot.there && !sayable_.empty()) {
    // Many words may be due in a turn; what a stall has made late by more than this is left out.
    bot.next_word = std::max(bot.next_word, now - kLatestWord);
    while (now >= bot.next_word) say_something(bot, now);
  }
  if (bot.there && now >= bot.next_look) look_at_link(bot, now);
  if (bot.there && bot.reports != nullptr) bot.client->schedule_payload(bot.reports.get(), 1);
  bot.client->flush(now);  // also the last word
  bot.done = bot.client->ended();
}

// All bots in turn, in one thread, until the time is up.
void Crowd::run(Time until, const std::function<bool()>& stop) {
  for (Time now = io::now(); now < until && !stop(); now = io::now()) {
    for (const auto& bot : bots_) turn(*bot, io::now());
    const Time end = io::now();
    seen_.turns.add(ms(end - now));
    io::wait_for_any(transports_, std::min(until, end + kLongestTurn));
  }
}

// Figures since the last call, which starts them anew.
CrowdStats Crowd::take() {
  const Time now = io::now();
  seen_.seconds = std::chrono::duration<double>(now - since_).count();
  since_ = now;
  seen_.wanted = bots_.size();
  seen_.there = there();
  std::size_t entities = 0;
  for (const auto& bot : bots_) count_traffic(*bot);
  for (const auto& bot : bots_) {
    if (bot->there && bot->client_world != nullptr) entities += bot->client_world->size();
  }
  seen_.entities =
      static_cast<double>(entities) / static_cast<double>(std::max<std::size_t>(1, seen_.there));
  return std::exchange(seen_, {});
}

// Every bot says goodbye, and is heard out.
void Crowd::close() {
  for (const auto& bot : bots_) {
    bot->closing = bot->there;
    if (bot->there) bot->client->close("the bots go home");
  }
  const Time latest = io::now() + 1s;
  run(latest, [this] {
    return std::all_of(bots_.begin(), bots_.end(),
                       [](const auto& bot) { return bot->done || !bot->closing; });
  });
}

}  // namespace kwind::bots
