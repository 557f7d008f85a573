// The congestion controller on a fluid model of a bottleneck: its own bytes in the queue, and those
// of competing flows.
#include "link/path/controller.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <deque>

#include "kit/sim_pair.h"

namespace kwind::link {
namespace controller_test {

using namespace std::chrono_literals;
using kit::at;

constexpr double kBytesPerSecond = 500000;
constexpr Duration kBase = 50ms;  // round trip without a queue
constexpr double kPacket = 1200;

/// Sends as the controller says, in virtual time. Others hold `their_queue` bytes of the
/// bottleneck's queue, and take half of what it carries while they do.
class Bottleneck {
 public:
  void run(Duration time, double their_queue) {
    for (const Time end = now_ + time; now_ < end; now_ += kStep) step(their_queue);
  }
  [[nodiscard]] const Controller& controller() const { return controller_; }
  /// Of this end's own bytes.
  [[nodiscard]] Duration queue() const {
    return Duration(static_cast<Duration::rep>(own_queue_ / kBytesPerSecond * 1e9));
  }

 private:
  static constexpr Duration kStep = 1ms;
  struct Packet {
    Time sent;
    double delivered_then;
  };

  void step(double their_queue) {
    budget_ = std::min(budget_ + controller_.rate() * seconds(kStep), 10 * kPacket);
    while (budget_ >= kPacket &&
           in_flight_ + kPacket <= static_cast<double>(controller_.window())) {
      budget_ -= kPacket;
      in_flight_ += kPacket;
      own_queue_ += kPacket;
      waiting_.push_back({now_, delivered_});
    }
    carried_ += kBytesPerSecond * (their_queue > 0 ? 0.5 : 1) * seconds(kStep);
    if (waiting_.empty()) carried_ = 0;
    while (carried_ >= kPacket && !waiting_.empty()) {
      carried_ -= kPacket;
      own_queue_ -= kPacket;
      // Its own time in the queue is over; that behind the others' bytes is still to come.
      const Duration theirs(static_cast<Duration::rep>(their_queue / kBytesPerSecond * 1e9));
      under_way_.emplace_back(now_ + kBase + theirs, waiting_.front());
      waiting_.pop_front();
    }
    while (!under_way_.empty() && under_way_.front().first <= now_) {
      const Packet packet = under_way_.front().second;
      under_way_.pop_front();
      in_flight_ -= kPacket;
      delivered_ += kPacket;
      SentPackets::Outcome outcome;
      outcome.bytes_acked = static_cast<std::size_t>(kPacket);
      outcome.rate = {(delivered_ - packet.delivered_then) / seconds(now_ - packet.sent), false};
      outcome.delivered_at_send = static_cast<std::uint64_t>(packet.delivered_then);
      controller_.on_ack(now_, outcome, now_ - packet.sent, static_cast<std::uint64_t>(delivered_),
                         static_cast<std::size_t>(in_flight_));
    }
  }
  static double seconds(Duration time) { return std::chrono::duration<double>(time).count(); }

  Controller controller_;
  Time now_ = at(0ms);
  double budget_ = 0;
  double in_flight_ = 0;
  double own_queue_ = 0;
  double carried_ = 0;
  double delivered_ = 0;
  std::deque<Packet> waiting_;
  std::deque<std::pair<Time, Packet>> under_way_;
};

TEST(Controller, FillsAPathAloneWithoutAQueue) {
  Bottleneck path;
  path.run(5s, 0);
  EXPECT_EQ(path.controller().way(), Controller::Way::steady);
  EXPECT_NEAR(path.controller().bandwidth(), kBytesPerSecond, 0.05 * kBytesPerSecond);
  EXPECT_LT(path.queue(), 20ms);
}

// Competes with flows that keep a standing queue, and returns to an empty queue after they end.
TEST(Controller, SharesWhileOthersQueueAndStopsWhenTheyAreGone) {
  Bottleneck path;
  path.run(3s, 0);
  path.run(10s, 60000);
  EXPECT_EQ(path.controller().way(), Controller::Way::sharing);
  path.run(40s, 0);
  EXPECT_EQ(path.controller().way(), Controller::Way::steady);
  EXPECT_LT(path.queue(), 20ms);
  EXPECT_NEAR(path.controller().bandwidth(), kBytesPerSecond, 0.05 * kBytesPerSecond);
}

}  // namespace controller_test
}  // namespace kwind::link
