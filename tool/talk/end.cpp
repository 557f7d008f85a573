// A server or a client of any description behind one interface: events out, commands in.
#include "talk/end.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "address/address.h"
#include "kwind/io/clock.h"
#include "kwind/io/udp_transport.h"
#include "kwind/json/line.h"

namespace kwind::talk {
namespace {

using schema::AnyMessage;
using schema::Value;

// Totals, then each cause of drops that occurred.
std::string traffic_text(const host::Traffic& traffic, const host::Counts& counts) {
  std::string text =
      fmt::format("{} datagrams and {} bytes out, {} and {} in", traffic.datagrams_sent,
                  traffic.bytes_sent, traffic.datagrams_received, traffic.bytes_received);
  for (const ErrorInfo& info : kErrorList) {
    if (counts.drops.of(info.code) > 0) {
      text += fmt::format("; {} dropped: {}", counts.drops.of(info.code), info.text);
    }
  }
  return text;
}

// A client that connects again by itself after a connection broke, for EndOptions::return_time.
class ClientEnd final : public End {
 public:
  ClientEnd(const schema::Tables& tables, std::unique_ptr<io::PollableTransport> transport,
            const tool::ServerAddress& server, const EndOptions& options,
            host::ClientOptions client)
      : End(tables, std::move(transport), options.answer_time),
        server_(server),
        return_time_(options.return_time),
        options_(std::move(client)) {
    dial(io::now());
  }
  // A handler may not destroy the client that calls it: on_disconnect() notes the end in `lost_`,
  // and receive() acts on it.
  void receive(Time now) override {
    now_ = now;
    if (client_) client_->receive(now);
    if (lost_) after_the_end(*std::exchange(lost_, std::nullopt));
    if (!client_ && again_at_ && now >= *again_at_) dial(now);
  }
  void flush(Time now) override {
    if (client_) client_->flush(now);
  }
  Time next_wakeup() const override {
    return client_ ? client_->next_wakeup() : again_at_.value_or(kNever);
  }
  // A close that was asked for ends the attempts to come back as well.
  void close(std::uint32_t, std::string_view reason) override {
    return_until_.reset();
    again_at_.reset();
    return_time_ = Duration{0};
    if (client_) client_->close(reason);
  }
  void close_all(std::string_view reason) override { close(0, reason); }
  bool ended() const override { return !client_ && !again_at_; }
  std::vector<std::uint32_t> who() const override {
    return connected() ? std::vector<std::uint32_t>{0} : std::vector<std::uint32_t>{};
  }
  // The client's own measurements; there are none before the first connection.
  std::string stats() const override {
    if (!client_) return "not connected";
    const link::Stats& stats = client_->stats();
    return fmt::format("{}; round trip {:.1f} ms, {:.1f} % lost",
                       traffic_text(client_->traffic(), client_->counts()),
                       std::chrono::duration<double, std::milli>(stats.smoothed_rtt).count(),
                       stats.loss * 100);
  }
  schema::Direction way() const override { return schema::Direction::from_client; }

 private:
  static constexpr Duration kBetweenTries = std::chrono::milliseconds(250);
  struct Lost {
    Errc code;
    std::string text;
  };

  bool connected() const { return client_ && client_->connected(); }

  // Each connection has a Client of its own: with it all state of the old connection goes.
  void dial(Time now) {
    again_at_.reset();
    if (server_.is_web_socket() && dialled_) {  // it ended with the connection before
      auto another = tool::open_transport_to(server_, {});
      if (another) transport_ = std::move(*another);
    }
    dialled_ = true;
    client_.emplace(*transport_, server_.endpoint, tables_.info(), now, options_);
    client_->on_connect([this] {
      stood_ = true;
      return_until_.reset();
      happened({.what = client_->resumed() ? Event::What::back : Event::What::connected,
                .text = std::string(client_->protection())});
    });
    client_->on_disconnect([this](Errc code, std::string_view reason) {
      lost_ = Lost{code, host::explain_end(code, reason)};
    });
    client_->on_unhandled([this](const route::RawMessage& message) { arrived(0, message); });
  }

  // A connection that broke is tried again for a while; one that was closed is not.
  void after_the_end(const Lost& lost) {
    left(0);
    const bool broke = lost.code == Errc::timeout || lost.code == Errc::server_restarted ||
                       lost.code == Errc::transport_ended;
    const bool trying = return_until_ && now_ < *return_until_ && lost.code != Errc::closed_here;
    if (broke && stood_ && return_time_ > Duration{0} && !trying) {
      return_until_ = now_ + return_time_;
      happened({.what = Event::What::broken, .code = lost.code, .text = lost.text});
    }
    options_.resume.reset();
    if (auto right = client_->resume(); right && lost.code != Errc::server_restarted) {
      options_.resume = std::move(right->secret);
    }
    client_->flush(now_);  // the last ack: the server need not wait for it
    client_.reset();
    if (return_until_ && now_ < *return_until_) {
      again_at_ = now_ + kBetweenTries;
      return;
    }
    happened({.what = Event::What::gone, .code = lost.code, .text = lost.text});
  }

  Errc send_message(std::uint32_t, const AnyMessage& message) override {
    return connected() ? client_->send(message) : Errc::closed;
  }
  Errc request(std::uint32_t, const AnyMessage& request, Duration timeout,
               const route::PendingRequests::Settle& settle) override {
    return connected() ? client_->request_any(request, timeout, settle) : Errc::closed;
  }
  Errc answer(std::uint32_t, std::uint16_t request_id, const AnyMessage& message) override {
    return connected() ? client_->answer(request_id, message) : Errc::closed;
  }

  tool::ServerAddress server_;
  bool dialled_ = false;
  Duration return_time_;
  host::ClientOptions options_;
  std::optional<host::Client> client_;
  bool stood_ = false;                // it was connected once
  std::optional<Lost> lost_;          // told by the client's handler, which may not destroy it
  std::optional<Time> return_until_;  // it is trying to come back
  std::optional<Time> again_at_;
};

// A server that shows whatever its clients send, and answers on command.
class ServerEnd final : public End {
 public:
  ServerEnd(const schema::Tables& tables, std::unique_ptr<io::PollableTransport> transport,
            const EndOptions& options, const host::ServerOptions& server)
      : End(tables, std::move(transport), options.answer_time),
        server_(*transport_, tables.info(), server) {
    server_.on_connect([this](host::Peer peer) {
      happened({.what = Event::What::connected,
                .peer = static_cast<std::uint32_t>(peer),
                .text = "client"});
    });
    server_.on_resume([this](host::Peer peer) {
      happened({.what = Event::What::back, .peer = static_cast<std::uint32_t>(peer)});
    });
    server_.on_disconnect([this](host::Peer peer, Errc code, std::string_view reason) {
      left(static_cast<std::uint32_t>(peer));
      happened({.what = Event::What::gone,
                .peer = static_cast<std::uint32_t>(peer),
                .code = code,
                .text = host::explain_end(code, reason)});
    });
    server_.unhandled_checks_owners();  // it shows whatever comes
    server_.on_unhandled([this](host::Peer peer, const route::RawMessage& message) {
      arrived(static_cast<std::uint32_t>(peer), message);
    });
  }
  void receive(Time now) override {
    now_ = now;
    server_.receive(now);
  }
  void flush(Time now) override { server_.flush(now); }
  Time next_wakeup() const override { return server_.next_wakeup(); }
  void close(std::uint32_t peer, std::string_view reason) override {
    server_.close(host::Peer{peer}, reason);
  }
  void close_all(std::string_view reason) override {
    closing_ = true;
    server_.close_all(reason);
  }
  bool ended() const override { return closing_ && server_.connections() == 0; }
  std::vector<std::uint32_t> who() const override {
    std::vector<std::uint32_t> peers;
    for (const host::Peer peer : server_.peers()) peers.push_back(static_cast<std::uint32_t>(peer));
    return peers;
  }
  std::string stats() const override { return traffic_text(server_.traffic(), server_.counts()); }
  schema::Direction way() const override { return schema::Direction::from_server; }

 private:
  // Peer 0 stands for all clients.
  Errc send_message(std::uint32_t to, const AnyMessage& message) override {
    if (to != 0) return server_.send(host::Peer{to}, message);
    return server_.send_to_all(message) > 0 ? Errc::none : Errc::no_such_peer;
  }
  Errc request(std::uint32_t to, const AnyMessage& request, Duration timeout,
               const route::PendingRequests::Settle& settle) override {
    return server_.request_any(host::Peer{to}, request, timeout, settle);
  }
  // A request has one receiver: without a number it is the only client, if there is one.
  std::uint32_t whom_to_ask(std::uint32_t to) const override {
    const std::vector<host::Peer> peers = server_.peers();
    return to == 0 && peers.size() == 1 ? static_cast<std::uint32_t>(peers.front()) : to;
  }
  Errc answer(std::uint32_t to, std::uint16_t request_id, const AnyMessage& message) override {
    return server_.answer(host::Peer{to}, request_id, message);
  }

  host::Server server_;
  bool closing_ = false;
};

}  // namespace

// A name that cannot be resolved, or an address that cannot be opened, is an error with that name
// in it.
std::unique_ptr<End> End::open(const schema::Tables& tables, const EndOptions& options,
                               std::string& why) {
  const bool is_client = !options.connect.empty();
  const std::string& name = is_client ? options.connect : options.listen;
  if (is_client) {
    const auto server = tool::parse_server_address(name);
    if (!server) {
      why = fmt::format("{}: {}", name, error_info(server.error()).text);
      return nullptr;
    }
    auto transport = tool::open_transport_to(*server, io::local_for(server->endpoint));
    if (!transport) {
      why = fmt::format("{}: {}", name, error_info(transport.error()).text);
      return nullptr;
    }
    host::ClientOptions client;
    client.server_key = options.server_key;
    client.plaintext = options.plaintext;
    client.ticket = options.ticket;
    client.timeouts.idle_timeout = options.idle_timeout;
    return std::make_unique<ClientEnd>(tables, std::move(*transport), *server, options,
                                       std::move(client));
  }
  const auto address = io::resolve(name);
  if (!address) {
    why = fmt::format("{}: {}", name, error_info(address.error()).text);
    return nullptr;
  }
  auto transport = io::UdpTransport::open(*address);
  if (!transport) {
    why = fmt::format("{}: {}", address->text(), error_info(transport.error()).text);
    return nullptr;
  }
  host::ServerOptions server;
  server.key = options.key;
  server.plaintext = options.plaintext;
  server.timeouts.idle_timeout = options.idle_timeout;
  if (options.key) server.resume = options.return_time;
  return std::make_unique<ServerEnd>(tables, std::move(*transport), options, server);
}

// Decodes a message by the description. A request is remembered until it is answered.
void End::arrived(std::uint32_t peer, const route::RawMessage& message) {
  const schema::Protocol& protocol = tables_.protocol();
  const auto& fields = protocol.messages[message.info.type].fields;
  schema::Decoder in(message.fields, message.version);
  Value value = schema::initial_value(protocol, fields);
  schema::decode_value(protocol, fields, in, value);
  if (in.error() != Errc::none || in.left_bits() > 0) {
    happened({.what = Event::What::problem,
              .peer = peer,
              .text = fmt::format("a {} that does not fit the description", message.info.name)});
    return;
  }
  if (message.info.role == schema::MessageRole::request) {
    pending_requests_.push_back({peer, message.request_id, message.info.type + std::size_t{1}});
  }
  happened({.peer = peer,
            .kind = message.info.type,
            .value = std::move(value),
            .request_id = message.request_id});
}

// Requests of a peer that is gone wait for nothing any more.
void End::left(std::uint32_t peer) {
  std::erase_if(pending_requests_, [&](const Question& question) { return question.peer == peer; });
}

// Sends by the role of the message: an answer goes to the oldest open request of its type, a
// request waits for its answer, and anything else is sent. Returns a sentence if that is not
// possible.
std::string End::say(std::uint32_t to, std::size_t kind, const Value& value) {
  const schema::MessageInfo& info = tables_.info().messages[kind];
  if (info.direction != schema::Direction::both && info.direction != way()) {
    return fmt::format("{} travels {} only", info.name, schema::name_of(info.direction));
  }
  const AnyMessage message(tables_, kind, value);
  Errc error = Errc::none;
  if (info.role == schema::MessageRole::answer) {
    const auto open =
        std::find_if(pending_requests_.begin(), pending_requests_.end(), [&](const Question& each) {
          return each.reply_type == kind && (to == 0 || each.peer == to);
        });
    if (open == pending_requests_.end()) return fmt::format("nobody waits for a {}", info.name);
    const Question question = *open;
    pending_requests_.erase(open);
    return send_answer(question, value);
  }
  if (info.role == schema::MessageRole::request) {
    to = whom_to_ask(to);
    const std::size_t reply_type = kind + 1;
    error = request(
        to, message, answer_time_,
        [this, to, reply_type](route::Ending ending, Errc, const bits::Reader* fields,
                               schema::Layout* layout) {
          if (fields != nullptr) {
            arrived(to, {tables_.info().messages[reply_type], *fields, layout->version, 0});
            return Errc::none;
          }
          if (ending == route::Ending::abandoned) {
            happened({.what = Event::What::problem,
                      .peer = to,
                      .text = fmt::format("no {} will come: who was asked dropped the request",
                                          tables_.info().messages[reply_type].name)});
          }
          if (ending == route::Ending::timed_out) {
            happened({.what = Event::What::problem,
                      .peer = to,
                      .text = fmt::format("no {} came in time",
                                          tables_.info().messages[reply_type].name)});
          }
          return Errc::none;
        });
  } else {
    error = send_message(to, message);
  }
  if (error != Errc::none) return fmt::format("{}: {}", info.name, error_info(error).text);
  happened({.what = Event::What::sent, .peer = to, .kind = kind, .value = value});
  return {};
}

// The event shows the answer beside the request that it settles.
std::string End::send_answer(const Question& question, const Value& value) {
  const Errc error =
      answer(question.peer, question.number, AnyMessage(tables_, question.reply_type, value));
  if (error != Errc::none) return std::string(error_info(error).text);
  happened({.what = Event::What::sent,
            .peer = question.peer,
            .kind = question.reply_type,
            .value = value,
            .request_id = question.number});
  return {};
}

// Answers the oldest open request. The first option of an answer is the reply.
std::string End::reply(std::string_view fields) {
  if (pending_requests_.empty()) return "nobody waits for a reply";
  const Question question = pending_requests_.front();
  const schema::Protocol& protocol = tables_.protocol();
  const schema::MessageType& answer = protocol.messages[question.reply_type];
  const schema::Options& outcomes = protocol.one_ofs[answer.fields[0].type.index];
  auto inner = json::parse_fields(
      protocol, protocol.records[outcomes.options[0].type[0].index].fields, fields);
  if (!inner) return inner.error();
  Value outcome;
  outcome.items.push_back(std::move(*inner));
  Value value;
  value.items.push_back(std::move(outcome));
  pending_requests_.erase(pending_requests_.begin());
  return send_answer(question, value);
}

// Refuses the oldest open request. The second option of an answer is the refusal, if the request
// has one: a reason, and words for the player.
std::string End::refuse(std::string_view reason_and_words) {
  if (pending_requests_.empty()) return "nobody waits for an answer";
  const Question question = pending_requests_.front();
  const schema::Protocol& protocol = tables_.protocol();
  const schema::MessageType& answer = protocol.messages[question.reply_type];
  const schema::Options& outcomes = protocol.one_ofs[answer.fields[0].type.index];
  if (outcomes.options.size() < 2) {
    return fmt::format("{} knows no refusal", protocol.messages[question.reply_type - 1].name);
  }
  const auto& fields = protocol.records[outcomes.options[1].type[0].index].fields;
  const std::size_t blank = std::min(reason_and_words.find(' '), reason_and_words.size());
  nlohmann::ordered_json json{{"reason", std::string(reason_and_words.substr(0, blank))}};
  if (blank < reason_and_words.size()) {
    json["words"] = std::string(reason_and_words.substr(blank + 1));
  }
  auto inner = json::from_json(protocol, fields, json);
  if (!inner) return inner.error();
  if (auto problem = json::out_of_range(protocol, fields, *inner)) return *problem;
  Value outcome;
  outcome.whole = 1;
  outcome.items.push_back(std::move(*inner));
  Value value;
  value.items.push_back(std::move(outcome));
  pending_requests_.erase(pending_requests_.begin());
  return send_answer(question, value);
}

}  // namespace kwind::talk
