// Encoding of inputs, desync reports and resync requests at the client; decoding and reordering of
// inputs at the server.
#include "kwind/replica/inputs.h"

#include <algorithm>

#include "kwind/replica/client_replicator.h"
#include "replica/coding/snapshot_head.h"

namespace kwind::replica {
namespace {

constexpr unsigned kNumberBits = 8;  // once the server has used one
constexpr unsigned kInputBackOrder = 2;
constexpr unsigned kInputCountOrder = 0;
constexpr unsigned kInputSizeOrder = 3;
constexpr unsigned kShownBits = 10;
constexpr std::uint32_t kShownParts = 4;  // of a tick
constexpr std::uint32_t kMaxInSnapshot = InputSender::kMaxInSnapshot;

// The number with these low bits that is nearest to `near`.
std::uint32_t unwrapped(std::uint32_t low, unsigned bits, std::uint32_t near) {
  const std::uint32_t size = std::uint32_t{1} << bits;
  const std::uint32_t ahead = (low - near) & (size - 1);
  return ahead < size / 2 ? near + ahead : near + ahead - size;
}

}  // namespace

InputSender::InputSender(ClientWorld& client_world, std::size_t redundancy)
    : client_world_(client_world.self()), redundancy_(redundancy), kept_(kKept) {
  KWIND_ASSERT(redundancy >= 1 && redundancy <= kMaxInSnapshot);
}

// A ring: an input is kept for as long as a later one may refer to it.
PackedInput& InputSender::next() {
  PackedInput& packed = kept_[++newest_ % kKept];
  packed = {newest_, 0, {}, {}};
  return packed;
}

std::optional<std::uint16_t> InputSender::shown_of(double tick) {
  if (!(tick > 0)) return std::nullopt;
  const auto parts = static_cast<std::uint64_t>(tick * kShownParts);
  return static_cast<std::uint16_t>(parts & ((1U << kShownBits) - 1));
}

// The server sends 16 bits of the newest input that it processed. A number above the newest one
// that was made is of another connection, or a lie: then there is none.
std::uint32_t InputSender::used() const {
  const auto low =
      *client_world_ == nullptr ? std::nullopt : (*client_world_)->last_processed_input();
  if (!low || newest_ == 0) return 0;
  const std::uint32_t number = unwrapped(*low, 16, newest_);
  return number <= newest_ ? number : 0;
}

// What to ask a full resync for: a snapshot that could not be read, or 0 where none has arrived.
// The second case is a copy that was made late: the server has sent all that is in view, to a
// program that did not take it, and sends nothing more while nothing changes.
std::optional<std::uint32_t> InputSender::resync_reason(Time now) {
  const ClientWorld* const world = *client_world_;
  if (world == nullptr) return std::nullopt;
  if (const auto unread = world->wants_resync()) return unread;
  if (world->counts().snapshots > 0 || blind_requests_ == kMaxBlindRequests) return std::nullopt;
  if (!first_fill_) first_fill_ = now;
  if (now - *first_fill_ < kFirstSnapshotWait) return std::nullopt;
  return 0;
}

// Exponential back-off: 250 ms, 500 ms, 1 s, then every 2 s. The server grants one a second at
// most.
bool InputSender::write_resync(Time now, bits::Writer& out) {
  const auto snapshot = resync_reason(now);
  if (!snapshot) {
    resync_pause_ = Duration{0};
    return false;
  }
  if (resync_pause_ > Duration{0} && now < next_resync_) return false;
  resync_pause_ = std::clamp(2 * resync_pause_, kFirstResyncPause, kLongestResyncPause);
  next_resync_ = now + resync_pause_;
  ++resyncs_requested_;
  if (*snapshot == 0) ++blind_requests_;
  out.put_bool(true);
  out.put_bool(true);
  out.put(*snapshot, kSnapshotBits);
  return true;
}

// One of three payloads, by urgency: a resync request, a desync report, inputs. Inputs travel in
// `redundancy` payloads each, so that one lost datagram costs none.
std::optional<std::uint64_t> InputSender::fill(Time now, bits::Writer& out) {
  constexpr std::size_t kHead = 64;
  if (out.room_bits() < kHead) return std::nullopt;
  if (write_resync(now, out)) return ++snapshots_;
  bits::Writer report = out;
  report.put_bool(true);
  report.put_bool(false);
  if (*client_world_ != nullptr && (*client_world_)->report(report) > 0) {
    out = report;
    return ++snapshots_;
  }
  if (newest_ == sent_before_[0]) return std::nullopt;
  // Built on the newest that the server has surely got.
  const std::uint32_t base = used();
  const bool has_base = base > 0 && newest_ - base < kKept - kMaxInSnapshot && base < newest_;
  // Those that fewer datagrams than wanted have carried, the newest of them if there is no room for
  // all.
  const std::uint32_t already_sent = sent_before_[redundancy_ - 1];
  const std::uint32_t count =
      std::min({newest_ - already_sent, kMaxInSnapshot, has_base ? newest_ - base : newest_});
  bits::Writer snapshot = out;
  snapshot.put_bool(false);
  snapshot.put_bool(has_base);
  snapshot.put(newest_, has_base ? kNumberBits : 32);
  if (has_base) snapshot.put_count(newest_ - base - 1, kInputBackOrder);
  snapshot.put_bool(count == 3);
  if (count != 3) snapshot.put_count(count - 1, kInputCountOrder);
  // What was shown at the older ones follows from the newest: a tick for each.
  const std::optional<std::uint16_t> shown = at(newest_).shown;
  snapshot.put_bool(shown.has_value());
  if (shown) snapshot.put(*shown, kShownBits);
  // Each input is coded against the one before: held keys take a bit.
  const PackedInput* before = has_base ? &at(base) : nullptr;
  for (std::uint32_t number = newest_ - count + 1; number <= newest_; ++number) {
    const PackedInput& input = at(number);
    const bool same = before != nullptr && input.same_as(*before);
    if (before != nullptr) snapshot.put_bool(same);
    if (!same) {
      const bool as_long = before != nullptr && before->bits == input.bits;
      if (before != nullptr) snapshot.put_bool(as_long);
      if (!as_long) snapshot.put_count(input.bits, kInputSizeOrder);
      snapshot.put_bits(input.bytes, input.bits);
    }
    before = &input;
  }
  if (!snapshot.ok()) return std::nullopt;
  bits_ += snapshot.bit_count() - out.bit_count();
  out = snapshot;
  std::copy_backward(sent_before_.begin(), sent_before_.end() - 1, sent_before_.end());
  sent_before_[0] = newest_;
  return ++snapshots_;
}

namespace {

// A desync report or a resync request, which travel as inputs do.
Errc receive_repair(bits::Reader& in, ClientReplicator* replicator) {
  if (in.get_bool()) {
    const auto snapshot = static_cast<std::uint32_t>(in.get(kSnapshotBits));
    if (!in.ok()) return Errc::truncated;
    if (in.left_bits() > 0) return Errc::trailing_bits;
    return replicator != nullptr ? replicator->receive_resync_request(snapshot) : Errc::unexpected;
  }
  // What follows starts within a byte: shift it to the front.
  std::vector<std::byte> rest(bits::bytes_for(in.left_bits()));
  const std::size_t left = in.left_bits();
  if (!in.get_bits(rest, left)) return Errc::truncated;
  return replicator != nullptr ? replicator->receive_desync_report(rest, left) : Errc::unexpected;
}

// One input: equal to the one before it, as long as that, or with a length of its own.
Errc read_input(bits::Reader& in, const PackedInput* before, PackedInput& input) {
  if (before != nullptr && in.get_bool()) {
    input = *before;
    return Errc::none;
  }
  const bool as_long = before != nullptr && in.get_bool();
  const std::uint64_t size = as_long ? before->bits : in.get_count(kInputSizeOrder);
  if (!in.ok()) return Errc::truncated;
  if (size > PackedInput::kMaxBits) return Errc::value_range;
  input.bits = size;
  return in.get_bits(input.bytes, size) ? Errc::none : Errc::truncated;
}

// All inputs of a payload, the oldest first; `newest` is the number of the last one. The tick that
// the client showed is sent for that one, and was one tick less for each input before it.
Errc read_inputs(bits::Reader& in, const PackedInput* before, std::uint32_t newest,
                 std::vector<PackedInput>& found) {
  const std::uint64_t count = in.get_bool() ? 3 : in.get_count(kInputCountOrder) + 1;
  if (!in.ok()) return Errc::truncated;
  if (count > kMaxInSnapshot || count > newest) return Errc::value_range;
  std::optional<std::uint32_t> shown;
  if (in.get_bool()) shown = static_cast<std::uint32_t>(in.get(kShownBits));
  found.resize(count);
  for (std::size_t i = 0; i < count; ++i) {
    PackedInput& input = found[i];
    if (const Errc error = read_input(in, before, input); error != Errc::none) return error;
    const auto older = static_cast<std::uint32_t>(count - 1 - i);
    input.number = newest - older;
    input.shown = std::nullopt;
    if (shown) {
      input.shown =
          static_cast<std::uint16_t>((*shown - older * kShownParts) & ((1U << kShownBits) - 1));
    }
    before = &input;
  }
  if (!in.ok()) return Errc::truncated;
  return in.left_bits() > 0 ? Errc::trailing_bits : Errc::none;
}

}  // namespace

// Everything is read before anything is kept.
Errc InputReceiver::receive(std::span<const std::byte> payload, std::size_t bits,
                            ClientReplicator* replicator) {
  bits::Reader in(payload, bits);
  if (in.get_bool()) return receive_repair(in, replicator);
  const bool has_base = in.get_bool();
  const auto low = static_cast<std::uint32_t>(in.get(has_base ? kNumberBits : 32));
  if (!in.ok()) return Errc::truncated;
  const std::uint32_t newest = has_base ? unwrapped(low, kNumberBits, newest_) : low;
  const PackedInput* before = nullptr;
  PackedInput copy;
  if (has_base) {
    const std::uint64_t back = in.get_count(kInputBackOrder) + 1;
    if (!in.ok()) return Errc::truncated;
    if (back >= InputSender::kKept || back >= newest) return Errc::value_range;
    copy = kept_[(newest - back) % InputSender::kKept];
    if (copy.number != newest - back) return Errc::unexpected;  // long forgotten
    before = &copy;
  }
  std::vector<PackedInput> found;
  if (const Errc error = read_inputs(in, before, newest, found); error != Errc::none) return error;
  // Inputs that arrived before are known by their numbers. Beyond kMaxWaiting the oldest goes: a
  // client that sends inputs ahead of time gains nothing.
  for (const PackedInput& input : found) {
    if (input.number <= newest_) continue;
    kept_[input.number % InputSender::kKept] = input;
    ++counts_.received;
    waiting_.push_back(input);
    if (waiting_.size() <= kMaxWaiting) continue;
    waiting_.pop_front();
    ++counts_.too_many;
  }
  newest_ = std::max(newest_, newest);
  return Errc::none;
}

std::optional<PackedInput> InputReceiver::next() {
  if (waiting_.empty()) return std::nullopt;
  const PackedInput input = waiting_.front();
  waiting_.pop_front();
  ++counts_.handed_out;
  return input;
}

}  // namespace kwind::replica
