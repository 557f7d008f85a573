// Client inputs, redundantly sent: one input per client tick, each in several datagrams, an
// unchanged one in a bit. With client-side prediction and reconciliation. Pure; one sender or
// receiver, one thread. docs/state-format.md has the bits.
#pragma once
#include <array>
#include <cstdint>
#include <deque>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <utility>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/core/errors.h"
#include "kwind/link/payload_source.h"
#include "kwind/replica/client_world.h"
#include "kwind/schema/codec.h"

namespace kwind::replica {

/// An input in the bits of its message.
struct PackedInput {
  static constexpr std::size_t kMaxBits = 512;
  std::uint32_t number = 0;  ///< of the client's ticks, from 1
  std::size_t bits = 0;
  std::array<std::byte, kMaxBits / 8> bytes{};
  /// The tick that the client showed when it gave the input, in quarters, the low 10 bits; nothing
  /// if it showed none.
  std::optional<std::uint16_t> shown{};
  [[nodiscard]] bool same_as(const PackedInput& other) const {
    return bits == other.bits && bytes == other.bytes;
  }
};

/// At the client: fills its datagrams with the newest inputs, with what ClientWorld::report() has,
/// and with a request for a full resync while ClientWorld::wants_resync(). A client without inputs
/// offers one all the same: without it the server never learns of a snapshot that the client could
/// not read.
class KWIND_API InputSender final : public link::PayloadSource {
 public:
  static constexpr std::size_t kKept = 64;
  static constexpr std::uint32_t kMaxInSnapshot = 8;

  /// For `client world`, which may be moved or end meanwhile: then inputs go on without reports.
  /// Each input goes in so many datagrams, 1 to 8. A datagram holds at most kMaxInSnapshot inputs:
  /// of more that are put between two datagrams the oldest are not sent.
  explicit InputSender(ClientWorld& client_world, std::size_t redundancy = 3);

  /// The input of the next tick; returns its number. `shown`: the tick that the client draws, see
  /// PlayoutClock::drawn(); 0: none. Requires: at most PackedInput::kMaxBits.
  template <class T>
  std::uint32_t put(const T& input, double shown = 0) {
    PackedInput& packed = next();
    packed.shown = shown_of(shown);
    schema::Encoder out{bits::Writer(packed.bytes)};
    encode(out, input);
    packed.bits = out.bit_count();
    KWIND_ASSERT(out.error() == Errc::none);
    out.finish();
    return packed.number;
  }
  /// The newest input that the server has used, as far as its snapshots have said; 0: none.
  [[nodiscard]] std::uint32_t used() const;
  [[nodiscard]] std::uint32_t newest() const { return newest_; }
  /// PackedInput::shown of a tick.
  [[nodiscard]] static std::optional<std::uint16_t> shown_of(double tick);
  [[nodiscard]] std::uint64_t bits() const { return bits_; }  ///< of all snapshots so far
  /// Requests for a full resync that were sent. The first leaves at once, further ones at intervals
  /// that double from kFirstResyncPause to kLongestResyncPause.
  [[nodiscard]] std::uint64_t resyncs_requested() const { return resyncs_requested_; }
  static constexpr Duration kFirstResyncPause = std::chrono::milliseconds(250);
  /// A full resync is asked for, too, if no snapshot at all arrived for this time; this often at
  /// most.
  static constexpr Duration kFirstSnapshotWait = std::chrono::seconds(1);
  static constexpr unsigned kMaxBlindRequests = 3;
  static constexpr Duration kLongestResyncPause = std::chrono::seconds(2);

  /// One snapshot for each put(), so that however often a client draws it sends once a tick.
  std::optional<std::uint64_t> fill(Time now, bits::Writer& out) override;

 private:
  PackedInput& next();
  [[nodiscard]] const PackedInput& at(std::uint32_t number) const { return kept_[number % kKept]; }
  std::shared_ptr<ClientWorld* const> client_world_;
  std::size_t redundancy_;
  std::uint32_t newest_ = 0;
  std::array<std::uint32_t, kMaxInSnapshot>
      sent_before_{};  // newest_ at the last snapshots, latest first
  std::uint64_t snapshots_ = 0;
  std::uint64_t bits_ = 0;
  [[nodiscard]] std::optional<std::uint32_t> resync_reason(Time now);
  bool write_resync(Time now, bits::Writer& out);
  std::optional<Time> first_fill_{};
  unsigned blind_requests_ = 0;
  Time next_resync_{};
  Duration resync_pause_{0};
  std::uint64_t resyncs_requested_ = 0;
  std::vector<PackedInput> kept_;
};

/// What became of the inputs of one client.
struct InputCounts {
  std::uint64_t received = 0;    ///< that had not come before
  std::uint64_t handed_out = 0;  ///< by next()
  std::uint64_t too_many = 0;    ///< dropped: more waited than the buffer holds, the oldest go
};

/// At the server: one client's. Buffers inputs and hands out one for each tick of the server, so
/// that a client that sends more of them moves no faster.
class KWIND_API InputReceiver {
 public:
  /// Inputs that may wait for next(): what the network delays and then delivers at once, and no
  /// more lag than that.
  static constexpr std::size_t kMaxWaiting = 8;

  /// Takes a snapshot; the inputs that are new wait for next(). A report or a request for a resync
  /// goes to `replicator`, if there is one. Errors: truncated, value_range, trailing_bits: nothing
  /// was taken then; those of ClientReplicator::receive_desync_report() and
  /// ClientReplicator::receive_resync_request().
  Errc receive(std::span<const std::byte> payload, std::size_t bits,
               class ClientReplicator* replicator);
  /// The oldest input that waits, by number; nothing if none does. To be called once a tick. An
  /// input of which all copies were lost is left out. Hand it to Server::take_input(), which
  /// applies the rate limit and the checks of its message type.
  std::optional<PackedInput> next();
  [[nodiscard]] std::size_t waiting() const { return waiting_.size(); }
  [[nodiscard]] const InputCounts& counts() const { return counts_; }
  /// The newest that came; 0: none.
  [[nodiscard]] std::uint32_t newest() const { return newest_; }

  /// The value of a packed input; nothing if its bits are no T.
  template <class T>
  static std::optional<T> unpack(const PackedInput& packed) {
    schema::Decoder in(bits::Reader(packed.bytes, packed.bits));
    T value;
    decode(in, value);
    if (in.error() != Errc::none || in.left_bits() > 0) return std::nullopt;
    return value;
  }

 private:
  std::uint32_t newest_ = 0;
  std::deque<PackedInput> waiting_;
  InputCounts counts_;
  std::vector<PackedInput> kept_ = std::vector<PackedInput>(InputSender::kKept);
};

/// What a client shows of its own entity before the server says so: its inputs are applied at once,
/// and again on top of what the server says once it differs.
template <class State, class Input>
class Prediction {
 public:
  /// How an input of one tick changes the state: as the server does it.
  using Step = std::function<State(const State&, const Input&)>;
  /// Whether two states are the same to the eye.
  using Same = std::function<bool(const State&, const State&)>;

  Prediction(State start, Step step, Same same)
      : now_(std::move(start)), step_(std::move(step)), same_(std::move(same)) {}

  /// Applies an input. At most kMax wait for the server: the oldest is forgotten then.
  void apply(std::uint32_t number, const Input& input) {
    now_ = step_(now_, input);
    waiting_.push_back({number, input, now_});
    if (waiting_.size() > kMax) waiting_.pop_front();
  }
  /// The server's state after input `number`. O(inputs since then) if it differs.
  void correct(std::uint32_t number, const State& truth) {
    if (last_correction_ && last_correction_->number == number &&
        same_(last_correction_->after, truth))
      return;  // once more
    while (!waiting_.empty() && waiting_.front().number < number) waiting_.pop_front();
    const bool known = !waiting_.empty() && waiting_.front().number == number;
    last_correction_ = Told{number, truth};
    if (!known) {
      // Of that input nothing is known any more: from the server's state on, all again.
      if (!waiting_.empty() || !same_(now_, truth)) replay(truth);
      return;
    }
    const bool right = same_(waiting_.front().after, truth);
    waiting_.pop_front();
    if (!right) replay(truth);
  }
  [[nodiscard]] const State& now() const { return now_; }
  /// Inputs that the server has not spoken of.
  [[nodiscard]] std::size_t waiting() const { return waiting_.size(); }
  /// How often the server said otherwise.
  [[nodiscard]] std::uint64_t corrections() const { return corrections_; }

 private:
  static constexpr std::size_t kMax = 128;
  struct Applied {
    std::uint32_t number;
    Input input;
    State after;
  };
  struct Told {
    std::uint32_t number;
    State after;
  };
  void replay(const State& truth) {
    ++corrections_;
    now_ = truth;
    for (Applied& each : waiting_) each.after = now_ = step_(now_, each.input);
  }
  State now_;
  Step step_;
  Same same_;
  std::deque<Applied> waiting_;
  std::optional<Told> last_correction_{};  // what the server said last
  std::uint64_t corrections_ = 0;
};

}  // namespace kwind::replica
