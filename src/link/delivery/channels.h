// All channels of one link: fills datagrams in the order of priority, and puts what arrives into
// the inbox as its delivery says. Composed by Link. One link, one thread.
#pragma once
#include <array>
#include <cstdint>
#include <functional>
#include <memory>
#include <vector>

#include "kwind/core/errors.h"
#include "link/datagram/frames.h"
#include "link/delivery/inbox.h"
#include "link/delivery/reliable_receiver.h"
#include "link/delivery/reliable_sender.h"
#include "link/delivery/unreliable_receiver.h"
#include "link/delivery/unreliable_sender.h"
#include "link/path/sent_packets.h"

namespace kwind::link {

/// What a datagram may carry now.
struct Allowance {
  bool high = false;    ///< state, and reliable channels of high priority
  bool normal = false;  ///< ... and the others
  bool bulk = false;
  unsigned care = 1;       ///< for small reliable messages, see Repeats::care
  Duration repeat_gap{0};  ///< least time between two copies
};

class Channels {
 public:
  Channels(std::vector<ChannelSpec> specs, std::size_t tags, std::size_t reassembly_bytes,
           TransportKind transport_kind);

  /// How many channels there are decides how many bits their numbers take.
  void agree(std::uint16_t version, TransportKind transport_kind);
  [[nodiscard]] const std::vector<ChannelSpec>& specs() const { return specs_; }

  struct Counts {
    std::uint64_t sent = 0;
    std::uint64_t repeated = 0;        ///< after a loss
    std::uint64_t repeated_early = 0;  ///< ahead of loss detection, and `repeat` copies
    std::uint64_t stale = 0;           ///< sequenced, older than the last delivered
    std::uint64_t doubled = 0;
    std::uint64_t recovered = 0;   ///< missing messages that parity gave
    std::uint64_t expired = 0;     ///< unsent, discarded
    std::uint64_t incomplete = 0;  ///< of which pieces never came
  };
  [[nodiscard]] const Counts& counts() const { return counts_; }
  [[nodiscard]] const std::vector<std::uint64_t>& bits_sent() const { return bits_sent_; }

  // ---- sending ----

  /// Errors: message_too_large; queue_full; with AtLimit::close it means the end.
  Errc push(std::size_t channel, std::size_t tag, const Outbound& message);
  /// Gives up what is stale.
  void expire(Time now);
  /// Whether something waits that the allowance lets leave; repeats not counted. O(1).
  [[nodiscard]] bool wants(const Allowance& allowed) const {
    return ((allowed.high ? unsent_ & of_rank(Priority::high) : 0) |
            (allowed.normal ? unsent_ & of_rank(Priority::normal) : 0) |
            (allowed.bulk ? unsent_ & of_rank(Priority::bulk) : 0)) != 0;
  }
  [[nodiscard]] bool wants_any() const { return unsent_ != 0; }
  /// When the first small reliable message should leave in another copy; kNever if none.
  [[nodiscard]] Time next_repeat(const Allowance& allowed, Duration latest) const;

  /// Puts messages into a datagram: copies and state first, then by priority; notes in `ledger`
  /// what must be reported. Returns the bits taken.
  std::size_t fill_high(FrameWriter& out, Time now, const Allowance& allowed, SentPackets& ledger);
  std::size_t write_rest_of_channels(FrameWriter& out, Time now, const Allowance& allowed,
                                     SentPackets& ledger);
  /// Writes redundant copies that are due, in at most a third of the datagram. To be written before
  /// what is newer.
  std::size_t write_repeats(FrameWriter& out, Time now, const Allowance& allowed,
                            SentPackets& ledger);
  /// Windows to be advertised.
  std::size_t write_windows(FrameWriter& out, SentPackets& ledger);
  [[nodiscard]] bool windows_due() const { return windows_ != 0; }

  /// What became of what a packet carried.
  void acked(const ReliableRef& ref);
  void acked(const SequencedRef& ref);
  void acked(const WindowRef&) {}
  void lost(const ReliableRef& ref);
  void lost(const SequencedRef&) {}  // a newer message says more
  void lost(const WindowRef& ref);
  /// It goes out once more, and still counts as sent before.
  void resend(const ReliableRef& ref);
  void resend(const SequencedRef&) {}
  void resend(const WindowRef& ref) { lost(ref); }

  /// See Link::prefetch; `step` from 1 on.
  void prefetch(bool sends, unsigned step) const;
  [[nodiscard]] bool reliable_idle() const { return busy_ == 0; }
  void clear_state();
  /// Bytes of state and high messages that wait.
  [[nodiscard]] std::size_t high_bytes() const;

  // ---- receiving ----

  /// Whether an honest sender may use the number in the frame now.
  [[nodiscard]] bool in_window(const Frame& frame) const;
  /// Takes a message, piece or window frame. Errors: those that close.
  Errc receive(const Frame& frame, Inbox& inbox);
  void handed_out(std::size_t channel, std::size_t bits);
  /// Whether any channel lacks a message before one that arrived. O(1).
  [[nodiscard]] bool stalled() const { return stalled_ != 0; }

 private:
  struct Channel {
    std::unique_ptr<ReliableSender> reliable_out;
    std::unique_ptr<ReliableReceiver> reliable_in;
    std::unique_ptr<UnreliableSender> state_out;
    SequencedReceiver sequenced_in;
    bool window_again = false;  // the last advertisement was lost
  };

  // One bit for each channel: what stands in a thousand links is found without a look at theirs.
  using Set = std::uint16_t;
  static_assert(kMaxChannels <= 16);
  [[nodiscard]] static Set one(std::size_t channel) { return static_cast<Set>(1U << channel); }
  static void put(Set& set, std::size_t channel, bool in) {
    set = static_cast<Set>(in ? set | one(channel) : set & ~one(channel));
  }
  [[nodiscard]] Set of_rank(Priority rank) const {
    return of_rank_[static_cast<std::size_t>(rank)];
  }
  template <class Visit>
  static void each(unsigned set, const Visit& visit);

  // State goes with high unless it is bulk.
  [[nodiscard]] static Priority rank(const ChannelSpec& spec);
  void sort_by_rank();
  // To be called after whatever may change what a channel wants.
  void note_out(std::size_t channel);
  void note_in(std::size_t channel);
  std::size_t write_parity(FrameWriter& out, Time now, const Allowance& allowed,
                           std::size_t channel);
  std::size_t write_unreliable(FrameWriter& out, std::size_t channel, SentPackets& ledger);
  std::size_t write_reliable(FrameWriter& out, Time now, std::size_t channel, SentPackets& ledger);
  std::size_t payload_rank(FrameWriter& out, Time now, Priority rank, SentPackets& ledger);
  void account(std::size_t tag, std::size_t bits) { bits_sent_[tag] += bits; }
  Errc on_unreliable(const Frame& frame, Inbox& inbox);

  std::array<Set, 3> of_rank_{};
  Set unsent_ = 0;   // something may leave
  Set busy_ = 0;     // reliable, not all acked
  Set recent_ = 0;   // sequenced, sent and to be repeated
  Set windows_ = 0;  // an advertisement is due
  Set stalled_ = 0;  // reliable, a message is missing
  TransportKind transport_kind_;
  std::vector<Channel> channels_;
  std::vector<ChannelSpec> specs_;
  std::size_t reassembly_bytes_;
  std::unique_ptr<PieceStore> pieces_;  // made when the first piece comes
  std::vector<std::uint64_t> bits_sent_;
  Counts counts_;
  std::size_t turn_ = 0;  // which channel of a rank goes first
};

}  // namespace kwind::link
