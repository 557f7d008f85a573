// Measures a plan: makes up the traffic of one client tick by tick, encodes it in each form, and
// takes the mean. Rates that are no whole number a tick are spread evenly (Beat); messages of one
// rate are given different phases, so that they do not all fall on one tick. Compressors that keep
// a history are warmed up before anything is counted.
//
// Monte Carlo: values are drawn by a seeded generator, so that the same plan costs the same on
// every machine. What a value looks like is uniform over its range; traffic of a real game is
// cheaper where it is predictable, and docs/budget.md says so.
#include "kwind/budget/cost.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <nlohmann/json.hpp>
#include <numeric>

#include "budget/compressors.h"
#include "kwind/json/json.h"
#include "kwind/json/text.h"
#include "kwind/schema/runtime.h"

namespace kwind::budget {
namespace {

using nlohmann::ordered_json;
using schema::Field;
using schema::Value;

constexpr unsigned kFrameKindBits = 3;  // docs/wire-format.md
constexpr unsigned kNumberBits = 16;
constexpr unsigned kLengthOrder = 6;
constexpr unsigned kTickBits = 16;
constexpr unsigned kUpdatesOrder = 3;  // how many updates follow

// Bresenham's method: the sum advances by `rate` in each tick, and an event happens when it passes
// a whole number.
// How often something that happens `rate` times a tick happens in each: 0.4 gives 0 0 1 0 1.
class Beat {
 public:
  // How often something of a steady rate happens in this tick: rates below one come in beats.
  Beat(double rate, double phase) : rate_(rate), sum_(phase) {}
  std::size_t next() {
    const double before = std::floor(sum_);
    sum_ += rate_;
    return static_cast<std::size_t>(std::floor(sum_) - before);
  }

 private:
  double rate_;
  double sum_;
};

// What one client is sent in a tick, or sends.
struct Piece {
  Piece() noexcept(false) = default;  // making JSON may throw, says clang-tidy
  Piece(const Piece&) = delete;
  Piece& operator=(const Piece&) = delete;

  std::size_t bits = 0;  // ours
  ordered_json json;     // null: nothing
};

class Encoded {
 public:
  explicit Encoded(const schema::Protocol& protocol) : protocol_(protocol) {}

  // The size by the library's own encoder, in the newest version.
  std::size_t bits(const std::vector<Field>& fields, const Value& value) {
    // Room for the largest value, and a word that the writer may touch.
    memory_.resize(bits::bytes_for(schema::size_of(protocol_, fields).max_bits) + 8);
    schema::Encoder out{bits::Writer(memory_), bits::Policy::clamp, protocol_.version};
    schema::encode_value(protocol_, fields, value, out);
    KWIND_ASSERT(out.error() == Errc::none);
    return out.bit_count();
  }

 private:
  const schema::Protocol& protocol_;
  std::vector<std::byte> memory_;
};

// ---- entities ----

class View {
 public:
  View(const schema::Protocol& protocol, const StatePlan& plan, double ticks_per_second,
       std::uint32_t first_id, schema::SampleNumbers& numbers)
      : protocol_(protocol),
        plan_(plan),
        kind_(protocol.entities[plan.entity]),
        numbers_(numbers),
        encoded_(protocol),
        changes_(plan.in_view * plan.changing, 0.5),
        entries_(plan.entering / ticks_per_second, 0.5) {
    for (const std::uint32_t place : plan.fields) changing_.push_back(kind_.fields[place]);
    outside_.resize(static_cast<std::size_t>(plan.population));
    std::iota(outside_.begin(), outside_.end(), first_id);
    const auto seen = static_cast<std::size_t>(std::ceil(plan.in_view));
    // The first view, before anything is counted.
    for (std::size_t i = 0; i < seen; ++i) enter();
  }

  // One tick of a view: entities leave and enter, fields change, and all of it is written.
  void tick(Piece& piece) {
    ordered_json updates = ordered_json::array();
    ordered_json gone = ordered_json::array();
    std::size_t bits = 0;
    // As many leave as enter: the view keeps its size. The one that has been in view longest
    // leaves.
    const std::size_t entering = entries_.next();
    // First in, first out.
    for (std::size_t i = 0; i < entering && !seen_.empty() && !outside_.empty(); ++i) {
      gone.push_back(seen_.front().id);
      bits += id_bits();
      outside_.push_back(seen_.front().id);
      seen_.erase(seen_.begin());
      const VisibleEntity& fresh = enter();
      ordered_json update{{"id", fresh.id}};
      update.update(json::to_json(protocol_, kind_.fields, fresh.value));
      updates.push_back(std::move(update));
      bits += id_bits() + encoded_.bits(kind_.fields, fresh.value);
    }
    std::size_t changing = std::min(changes_.next(), seen_.size());
    // Each of those in view is as likely as any other: Knuth's algorithm S.
    // Draws `changing` of the n entities without repetition, in one pass.
    for (std::size_t i = 0; i < seen_.size() && changing > 0; ++i) {
      if (numbers_.up_to(seen_.size() - i - 1) >= changing) continue;
      --changing;
      updates.push_back(change(seen_[i], bits));
    }
    count_ += updates.size();
    if (updates.empty() && gone.empty()) return;
    bits += bits::count_bits(updates.size(), kUpdatesOrder) +
            bits::count_bits(gone.size(), kUpdatesOrder);
    bits_ += bits;
    piece.bits += bits;
    ordered_json& state = piece.json["state"][kind_.name];
    if (!updates.empty()) state["changed"] = std::move(updates);
    if (!gone.empty()) state["gone"] = std::move(gone);
  }

  // Counts begin anew.
  void warmed_up() { bits_ = count_ = 0; }
  [[nodiscard]] std::size_t bits() const { return bits_; }
  [[nodiscard]] std::size_t updates() const { return count_; }
  [[nodiscard]] const schema::Entity& kind() const { return kind_; }
  [[nodiscard]] const StatePlan& plan() const { return plan_; }

  // One of the world's entities with all its fields, as JSON text.
  ordered_json any() {
    ordered_json whole{{"id", 0}};
    whole.update(json::to_json(
        protocol_, kind_.fields,
        schema::sample_value(protocol_, kind_.fields, schema::SampleSize::typical, numbers_)));
    return whole;
  }

 private:
  struct VisibleEntity {
    std::uint32_t id = 0;
    Value value;
  };

  [[nodiscard]] unsigned id_bits() const { return bits::bits_for(protocol_.entities_up_to); }

  // An entity that was out of view comes in, with new values.
  const VisibleEntity& enter() {
    // Any of those outside, which the last one then replaces: O(1).
    const std::size_t place = numbers_.up_to(outside_.size() - 1);
    VisibleEntity fresh;
    fresh.id = outside_[place];
    fresh.value =
        schema::sample_value(protocol_, kind_.fields, schema::SampleSize::typical, numbers_);
    outside_[place] = outside_.back();
    outside_.pop_back();
    seen_.push_back(std::move(fresh));
    return seen_.back();
  }

  // Changes the fields whose turn it is; their bits and their JSON are counted.
  ordered_json change(VisibleEntity& seen, std::size_t& bits) {
    Value changed;
    for (const std::uint32_t place : plan_.fields) {
      Value& value = seen.value.items[place];
      value = schema::sample_value(protocol_, kind_.fields[place].type, schema::SampleSize::typical,
                                   numbers_);
      changed.items.push_back(value);
    }
    std::size_t can_change = 0;  // a bit for each says whether it did
    // The change mask has one bit for each field that can change.
    for (const Field& field : kind_.fields) {
      if (field.travels(protocol_.version) && !field.words.at_spawn) ++can_change;
    }
    bits += id_bits() + can_change + encoded_.bits(changing_, changed);
    ordered_json update{{"id", seen.id}};
    update.update(json::to_json(protocol_, changing_, changed));
    return update;
  }

  const schema::Protocol& protocol_;
  const StatePlan& plan_;
  const schema::Entity& kind_;
  schema::SampleNumbers& numbers_;
  Encoded encoded_;
  Beat changes_;
  Beat entries_;
  std::vector<Field> changing_;
  std::vector<std::uint32_t> outside_;  // ids
  std::vector<VisibleEntity> seen_;
  std::size_t bits_ = 0;
  std::size_t count_ = 0;
};

// ---- messages ----

class Sender {
 public:
  Sender(const schema::Protocol& protocol, const MessagePlan& plan, double ticks_per_second,
         double phase, schema::SampleNumbers& numbers)
      : protocol_(protocol),
        plan_(plan),
        type_(protocol.messages[plan.message]),
        numbers_(numbers),
        encoded_(protocol),
        beat_(plan.per_second / ticks_per_second, phase) {}

  // Messages of this tick, each with sampled values.
  void tick(Piece& piece) {
    const std::size_t count = beat_.next();
    for (std::size_t i = 0; i < count; ++i) {
      const Value value = schema::sample_value(protocol_, type_.fields, plan_.filled, numbers_);
      const std::size_t payload = type_bits() + encoded_.bits(type_.fields, value);
      const std::size_t bits = head_bits(payload) + payload;
      piece.bits += bits;
      bits_ += bits;
      ++count_;
      ordered_json json{{"type", type_.name}};
      json.update(json::to_json(protocol_, type_.fields, value));
      // In JSON a message names its type, for which the library needs some bits.
      piece.json["messages"].push_back(std::move(json));
    }
  }

  void warmed_up() { bits_ = count_ = 0; }
  [[nodiscard]] std::size_t bits() const { return bits_; }
  [[nodiscard]] std::size_t count() const { return count_; }
  [[nodiscard]] const MessagePlan& plan() const { return plan_; }
  [[nodiscard]] const schema::MessageType& type() const { return type_; }

 private:
  // Bits of the message's number among those of its channel and direction.
  [[nodiscard]] unsigned type_bits() const {
    const auto way =
        plan_.from_client ? schema::Direction::from_client : schema::Direction::from_server;
    return bits::bits_for(static_cast<std::uint64_t>(
        std::count_if(protocol_.messages.begin(), protocol_.messages.end(), [&](const auto& other) {
          return other.channel == type_.channel && other.life.alive(protocol_.version) &&
                 (other.direction == schema::Direction::both || other.direction == way);
        })));
  }
  // Frame head: kind of frame, channel, number and length, as the link writes them.
  [[nodiscard]] std::size_t head_bits(std::size_t payload) const {
    const auto channels = static_cast<std::uint64_t>(
        std::count_if(protocol_.channels.begin(), protocol_.channels.end(),
                      [&](const auto& channel) { return channel.life.alive(protocol_.version); }));
    const bool numbered = protocol_.channels[type_.channel].delivery != Delivery::unreliable;
    return kFrameKindBits + bits::bits_for(channels) + (numbered ? kNumberBits : 0) +
           bits::count_bits(payload, kLengthOrder);
  }

  const schema::Protocol& protocol_;
  const MessagePlan& plan_;
  const schema::MessageType& type_;
  schema::SampleNumbers& numbers_;
  Encoded encoded_;
  Beat beat_;
  std::size_t bits_ = 0;
  std::size_t count_ = 0;
};

// ---- forms ----

// Adds up one form of the pieces of one way.
class TrafficCounts {
 public:
  // Bytes of one direction and coding. A tick's bytes travel in as few datagrams as hold them.
  explicit TrafficCounts(const Plan& plan) : plan_(plan) {}
  void add(std::size_t bytes) {
    if (bytes == 0) return;
    bytes_ += static_cast<double>(bytes);
    // Rounded up: a tick's bytes that do not fill a datagram still cost its header.
    datagrams_ +=
        std::ceil(static_cast<double>(bytes) / (plan_.datagram_bytes - plan_.header_bytes));
  }
  // The first ticks, in which everything appears, are not counted.
  void warmed_up() { bytes_ = datagrams_ = 0; }
  [[nodiscard]] Traffic traffic() const {
    return {bytes_ / kMeasuredTicks, datagrams_ / kMeasuredTicks,
            (bytes_ + datagrams_ * plan_.header_bytes) / kMeasuredTicks * plan_.ticks_per_second};
  }

 private:
  const Plan& plan_;
  double bytes_ = 0;
  double datagrams_ = 0;
};

enum Form : std::uint8_t { ours, text, cbor, deflate, zstd, deflate_stream, zstd_stream, kForms };
constexpr std::array<const char*, kForms> kNames{
    "Kestrel Wind",         "JSON text",        "CBOR", "JSON, deflate a tick", "JSON, zstd a tick",
    "JSON, deflate stream", "JSON, zstd stream"};

// All forms of one way.
class Way {
 public:
  explicit Way(const Plan& plan) : counts_(kForms, TrafficCounts(plan)) {}

  // The same values in each coding: the library's, JSON, and JSON compressed with and without
  // memory.
  void add(const Piece& piece) {
    if (piece.json.is_null()) return;
    const std::string json = json::text_of(piece.json);
    counts_[ours].add(bits::bytes_for(piece.bits));
    counts_[text].add(json.size());
    counts_[cbor].add(ordered_json::to_cbor(piece.json).size());
    for (std::size_t i = 0; i < compressors_.size(); ++i) {
      counts_[deflate + i].add(compressors_[i]->add(json));
    }
  }
  void warmed_up() {
    for (TrafficCounts& counts : counts_) counts.warmed_up();
  }
  [[nodiscard]] Traffic traffic(std::size_t form) const { return counts_[form].traffic(); }

 private:
  std::vector<TrafficCounts> counts_;
  std::array<std::unique_ptr<Compressor>, 4> compressors_{
      make_deflate(Memory::none), make_zstd(Memory::none), make_deflate(Memory::stream),
      make_zstd(Memory::stream)};
};

class Measurement {
 public:
  Measurement(const schema::Protocol& protocol, const Plan& plan)
      : plan_(plan), numbers_(plan.seed), down_(plan), up_(plan), whole_world_(plan) {
    double first_id = 0;
    // Ids of entity types do not overlap.
    for (const StatePlan& state : plan.state) {
      views_.emplace_back(protocol, state, plan.ticks_per_second,
                          static_cast<std::uint32_t>(first_id), numbers_);
      first_id += state.population;
    }
    // Messages do not all fall on one tick: their phases are spread by the golden ratio.
    double phase = 0;
    // The golden ratio's multiples are spread evenly over the unit interval, however many there
    // are.
    for (const MessagePlan& message : plan.messages) {
      phase += 0.618034;
      senders_.emplace_back(protocol, message, plan.ticks_per_second, phase - std::floor(phase),
                            numbers_);
    }
  }

  // Warm-up first, then the ticks that count.
  Cost cost() {
    for (std::uint32_t tick = 0; tick < kWarmTicks + kMeasuredTicks; ++tick) {
      if (tick == kWarmTicks) warmed_up();
      play(tick);
    }
    Cost made;
    for (std::size_t form = 0; form < kForms; ++form) {
      made.codings.push_back({kNames[form], down_.traffic(form), up_.traffic(form)});
    }
    if (!views_.empty()) made.codings.push_back(everything());
    shares(made);
    return made;
  }

 private:
  void warmed_up() {
    for (Way* way : {&down_, &up_}) way->warmed_up();
    for (View& view : views_) view.warmed_up();
    for (Sender& sender : senders_) sender.warmed_up();
  }

  // All that happens in one tick, in both directions.
  void play(std::uint32_t tick) {
    Piece down;
    Piece up;
    // First the state, then the messages; both go into the same datagrams.
    for (View& view : views_) view.tick(down);
    if (!down.json.is_null()) {
      down.bits += kTickBits;
      down.json["tick"] = tick;
    }
    for (Sender& sender : senders_) sender.tick(sender.plan().from_client ? up : down);
    down_.add(down);
    up_.add(up);
  }

  // What is sent where nobody thought about it: each tick the whole world, as text.
  Coding everything() {
    double bytes = 0;
    constexpr int kSamples = 64;
    // The mean of kSamples entities, times the population.
    for (View& view : views_) {
      std::size_t some = 0;
      for (int i = 0; i < kSamples; ++i) some += json::text_of(view.any()).size() + 1;
      bytes += static_cast<double>(some) / kSamples * view.plan().population;
    }
    // The world has a size, not a course: each tick costs the same.
    for (std::uint32_t tick = 0; tick < kMeasuredTicks; ++tick) {
      whole_world_.add(static_cast<std::size_t>(bytes));
    }
    return {"JSON text of the whole world", whole_world_.traffic(), up_.traffic(text)};
  }

  // Bytes a second, of bits in all measured ticks.
  double per_second(double bits) const {
    return bits / 8 / kMeasuredTicks * plan_.ticks_per_second;
  }
  // 0 where nothing was sent.
  static double mean(std::size_t bits, std::size_t count) {
    return count == 0 ? 0 : static_cast<double>(bits) / static_cast<double>(count);
  }

  // The share of each entity and message type, in bytes a second.
  void shares(Cost& made) {
    std::vector<Share>& all = made.shares;
    for (const View& view : views_) {
      all.push_back({view.kind().name, "entity", false,
                     per_second(static_cast<double>(view.bits())),
                     mean(view.bits(), view.updates())});
    }
    for (const Sender& sender : senders_) {
      all.push_back({sender.type().name, "message", sender.plan().from_client,
                     per_second(static_cast<double>(sender.bits())),
                     mean(sender.bits(), sender.count())});
    }
    // What no type accounts for: headers, ticks and padding.
    for (const bool from_client : {false, true}) {
      const Traffic& traffic = from_client ? made.codings[ours].up : made.codings[ours].down;
      const double payload = traffic.payload_bytes_per_tick * plan_.ticks_per_second;
      double named = 0;
      for (const Share& share : all) {
        if (share.from_client == from_client) named += share.bytes_per_second;
      }
      if (traffic.bytes_per_second == 0) continue;
      all.push_back(
          {"headers", "of datagrams", from_client, traffic.bytes_per_second - payload, 0});
      all.push_back({"ticks and padding", "of datagrams", from_client, payload - named, 0});
    }
    std::stable_sort(all.begin(), all.end(), [](const Share& a, const Share& b) {
      return std::tuple(a.from_client, -a.bytes_per_second) <
             std::tuple(b.from_client, -b.bytes_per_second);
    });
  }

  const Plan& plan_;
  schema::SampleNumbers numbers_;
  std::vector<View> views_;
  std::vector<Sender> senders_;
  Way down_;
  Way up_;
  TrafficCounts whole_world_;
};

}  // namespace

Cost cost_of(const schema::Protocol& protocol, const Plan& plan) {
  return Measurement(protocol, plan).cost();
}

}  // namespace kwind::budget
