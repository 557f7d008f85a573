// One end of a connection for people and scripts: a client, or a server that clients can be tried
// against, of any description. Reports events; sends messages on command.
#pragma once
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "kwind/host/client.h"
#include "kwind/host/server.h"
#include "kwind/io/udp_transport.h"
#include "kwind/schema/tables.h"

namespace kwind::talk {

/// Something that happened. On a client `peer` is 0.
struct Event {
  enum class What : std::uint8_t {
    connected,
    message,
    sent,
    gone,
    problem,
    broken,  ///< the connection is, and the client tries to come back
    back,    ///< it came back, and is to the server who it was
  };
  What what = What::message;
  Time at;
  std::uint32_t peer = 0;
  std::size_t kind = 0;  ///< message, sent: place in Protocol::messages
  schema::Value value{};
  std::uint16_t request_id = 0;  ///< requests and answers: which
  Errc code = Errc::none;        ///< gone, broken: why
  std::string
      text{};  ///< gone, broken, problem: in a sentence; connected, back: how it is encrypted
};

struct EndOptions {
  std::string connect;  ///< HOST:PORT; empty: be a server
  std::string listen = "127.0.0.1:4000";
  std::optional<link::PublicKey> server_key{};  ///< client, encrypted
  std::optional<link::KeyPair> key{};           ///< server, encrypted
  std::optional<host::Plaintext> plaintext{};
  std::string ticket{};
  Duration answer_time = std::chrono::seconds(10);   ///< how long an answer is waited for
  Duration idle_timeout = std::chrono::seconds(10);  ///< after which a connection is broken
  /// How long a client tries to come back then, or as a server lets clients; 0: not at all.
  Duration return_time{0};
};

class End {
 public:
  /// `tables` must outlive the end. Errors are told in `why`: nullptr then.
  static std::unique_ptr<End> open(const schema::Tables& tables, const EndOptions& options,
                                   std::string& why);
  virtual ~End() = default;

  /// Takes in what has arrived; events go to `tell`.
  virtual void receive(Time now) = 0;
  virtual void flush(Time now) = 0;
  [[nodiscard]] virtual Time next_wakeup() const = 0;
  [[nodiscard]] io::PollableTransport& transport() { return *transport_; }

  /// Sends a message, asks a request, or answers the oldest open question of the answer's kind;
  /// `to` is a peer, or 0 for everybody. Returns what is wrong, or "".
  std::string say(std::uint32_t to, std::size_t kind, const schema::Value& value);
  /// Answers the oldest open question: fields of its reply, or a reason of refusal and words.
  std::string reply(std::string_view fields);
  std::string refuse(std::string_view reason_and_words);

  virtual void close(std::uint32_t peer, std::string_view reason) = 0;
  virtual void close_all(std::string_view reason) = 0;
  /// Whether there is nobody (any more) to talk to, and never will be.
  [[nodiscard]] virtual bool ended() const = 0;
  [[nodiscard]] virtual std::vector<std::uint32_t> who() const = 0;
  [[nodiscard]] virtual std::string stats() const = 0;
  [[nodiscard]] virtual schema::Direction way() const = 0;  ///< in which it sends

  std::function<void(const Event&)> tell;

 protected:
  End(const schema::Tables& tables, std::unique_ptr<io::PollableTransport> transport,
      Duration answer_time)
      : tables_(tables), transport_(std::move(transport)), answer_time_(answer_time) {}
  virtual Errc send_message(std::uint32_t to, const schema::AnyMessage& message) = 0;
  /// Who is asked when nobody was named: the only one there is.
  [[nodiscard]] virtual std::uint32_t whom_to_ask(std::uint32_t to) const { return to; }
  virtual Errc request(std::uint32_t to, const schema::AnyMessage& request, Duration timeout,
                       const route::PendingRequests::Settle& settle) = 0;
  virtual Errc answer(std::uint32_t to, std::uint16_t request_id,
                      const schema::AnyMessage& message) = 0;

  void arrived(std::uint32_t peer, const route::RawMessage& message);
  void left(std::uint32_t peer);
  void happened(Event event) {
    event.at = now_;
    if (tell) tell(event);
  }

  const schema::Tables& tables_;
  std::unique_ptr<io::PollableTransport> transport_;
  Duration answer_time_;
  Time now_{};

 private:
  struct Question {
    std::uint32_t peer;
    std::uint16_t number;
    std::size_t reply_type;
  };
  std::string send_answer(const Question& question, const schema::Value& value);
  std::vector<Question> pending_requests_;  // asked of us, oldest first
};

}  // namespace kwind::talk
