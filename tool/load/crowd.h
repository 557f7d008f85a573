// Many clients in one thread against one server of any protocol: they connect, keep up with its
// state, send made-up messages, and note what they see of the wire.
#pragma once
#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "kwind/host/client.h"
#include "kwind/io/udp_transport.h"
#include "kwind/replica/client_world.h"
#include "kwind/schema/sample.h"
#include "kwind/schema/tables.h"
#include "load/histogram.h"

namespace kwind::bots {

struct CrowdOptions {
  Endpoint server;
  std::string web_socket{};              ///< URL of the server's web socket; empty: UDP
  std::optional<link::PublicKey> key{};  ///< none: plaintext mode
  std::string ticket{};
  const schema::ProtocolInfo* protocol = nullptr;
  const schema::EntitiesInfo* entities = nullptr;  ///< nullptr: the protocol has none
  double ticks_per_second = 20;                    ///< of the server's world
  /// Where made-up messages are from; nullptr: none are sent.
  const schema::Tables* tables = nullptr;
  double rate = 1;  ///< messages a second of each bot
  std::uint64_t seed = 1;
};

/// What was seen in a span of time. Times in milliseconds.
struct CrowdStats {
  double seconds = 0;
  Histogram connecting;   ///< from the first hello on
  Histogram round_trips;  ///< smoothed, as each bot's link has it, four times a second
  Histogram losses;       ///< percent of each bot's datagrams that got lost on their way
  Histogram answers;      ///< from a request to its answer
  Histogram gaps;         ///< between two snapshots of a bot
  Histogram turns;        ///< of the bots' own loop: what it adds to the times above
  std::uint64_t state_bits = 0;
  std::uint64_t snapshots = 0;
  std::uint64_t snapshots_refused = 0;  ///< that a client world could not read
  std::uint64_t messages_sent = 0;
  std::uint64_t messages_refused = 0;  ///< by limits at this end
  std::uint64_t messages_received = 0;
  std::uint64_t requests_unanswered = 0;
  std::uint64_t datagrams_sent = 0;
  std::uint64_t packets_lost = 0;  ///< of these
  std::uint64_t bytes_out = 0;     ///< UDP payload
  std::uint64_t bytes_in = 0;
  double entities = 0;  ///< in view of a bot, on average
  std::size_t wanted = 0;
  std::size_t there = 0;                    ///< connected at the end
  std::map<std::string, std::size_t> ends;  ///< of connections, by their reasons
};

class Crowd {
 public:
  explicit Crowd(CrowdOptions options);
  ~Crowd();
  Crowd(const Crowd&) = delete;
  Crowd& operator=(const Crowd&) = delete;

  /// More bots, which connect during the next run(). What keeps them from it, in a sentence, or "".
  std::string grow_to(std::size_t count);
  /// Runs all of them until then; `stop` ends it earlier.
  void run(Time until, const std::function<bool()>& stop);
  /// What was seen since the last call.
  CrowdStats take();
  [[nodiscard]] std::size_t size() const { return bots_.size(); }
  [[nodiscard]] std::size_t there() const;
  /// Says goodbye, and waits a little for it to get through.
  void close();

 private:
  struct Bot;
  void dial(Bot& bot, Time now);
  void turn(Bot& bot, Time now);
  void say_something(Bot& bot, Time now);
  void look_at_link(Bot& bot, Time now);
  void count_traffic(Bot& bot);

  CrowdOptions options_;
  std::vector<std::size_t> sayable_;  // kinds of message
  schema::SampleNumbers numbers_;
  std::vector<std::unique_ptr<Bot>> bots_;
  std::vector<io::PollableTransport*> transports_;
  CrowdStats seen_;
  Time since_{};
};

}  // namespace kwind::bots
