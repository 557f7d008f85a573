// Measures what a world in motion costs each client a tick over a path with loss, and checks every
// value on the way. For a world of your own: write its .kw file, derive from TypedMotion, and call
// measure(); harbour.cpp is an example.
#pragma once
#include <fmt/format.h>

#include <Eigen/Core>
#include <map>
#include <memory>
#include <stdexcept>
#include <string>
#include <utility>
#include <variant>
#include <vector>

#include "kwind/replica/client_replicator.h"
#include "kwind/replica/client_world.h"
#include "kwind/replica/world.h"

namespace lab {

/// A value taken apart into columns of whole numbers; what has none counts by a number made from its
/// bits.
struct ColumnValues {
  std::vector<std::uint32_t> numbers;
  std::vector<unsigned> bits;   ///< of each column, all of it
  std::vector<bool> has_order;  ///< whether a difference of two numbers is small if they are near
  friend bool operator==(const ColumnValues& a, const ColumnValues& b) {
    return a.numbers == b.numbers;
  }
};

class Motion {
 public:
  virtual ~Motion() = default;
  /// Puts the values of the next tick; measure() ends it.
  virtual void step(kwind::replica::World& world) = 0;
  /// What a client sees as of that tick, by id.
  [[nodiscard]] virtual std::vector<kwind::replica::RelevantEntity> view(
      std::size_t client) const = 0;

  /// Of all entities.
  [[nodiscard]] virtual std::vector<std::uint32_t> ids() const = 0;
  [[nodiscard]] virtual const kwind::schema::EntityInfo& kind(std::uint32_t id) const = 0;
  /// An entity's newest values in bits, as its owner or another one has them, and as JSON text.
  [[nodiscard]] virtual std::vector<std::byte> bits(std::uint32_t id, bool owner = true) const = 0;
  [[nodiscard]] virtual ColumnValues columns(std::uint32_t id, bool owner) const = 0;
  [[nodiscard]] virtual std::string json(std::uint32_t id) const = 0;
  /// What a client world holds of it, in bits.
  [[nodiscard]] virtual std::vector<std::byte> held(const kwind::replica::ClientWorld& client_world,
                                                    kwind::schema::AnyRef ref) const = 0;
};

template <class T>
std::vector<std::byte> bits_of(const T& value, bool owner = true) {
  std::vector<std::byte> memory(1024);
  kwind::schema::Encoder out{kwind::bits::Writer(memory), kwind::bits::Policy::clamp,
                             kwind::schema::kNewest,
                             owner ? kwind::schema::View::owner : kwind::schema::View::others};
  encode(out, value);
  memory.resize(out.finish());
  return memory;
}

template <class T>
ColumnValues columns_of(const T& value, bool owner) {
  std::vector<std::byte> memory(2048);
  kwind::schema::Encoder out{kwind::bits::Writer(memory)};
  std::vector<std::size_t> ends;
  encode_columns(out, value, [&] { ends.push_back(out.bit_count()); });
  out.finish();
  kwind::bits::Reader in(memory, out.bit_count());
  const auto infos = T::entity_info().columns;
  ColumnValues made;
  std::size_t field = 0;
  std::size_t begin = 0;
  for (std::size_t c = 0; c < infos.size(); ++c) {
    const kwind::schema::ColumnInfo& info = infos[c];
    const bool first = c == 0 || infos[c - 1].field != info.field;
    if (first && c > 0) begin = ends[field++];
    const bool packed = info.form == kwind::schema::ColumnForm::varying ||
                        info.group != kwind::schema::ColumnGroup::none;
    std::uint64_t number = 0;
    unsigned bits = info.bits;
    if (packed) {
      // All bits of the field count as its first column.
      bits = first ? static_cast<unsigned>(ends[field] - begin) : 0;
      for (unsigned i = 0; i < bits; ++i) {
        number = (number ^ (in.get_bool() ? 1U : 2U)) * 0x9e3779b97f4a7c15U;
      }
      number >>= 32;
    } else {
      number = in.get(info.bits);
    }
    const bool shown = owner || !info.owner_only;
    made.numbers.push_back(shown ? static_cast<std::uint32_t>(number) : 0);
    made.bits.push_back(shown ? bits : 0);
    made.has_order.push_back(!packed && info.form != kwind::schema::ColumnForm::opaque);
  }
  return made;
}

// Values as JSON has them: numbers, vectors as arrays.
template <class T>
std::string json_of(const T& value) {  // NOLINT(misc-no-recursion)
  if constexpr (std::is_enum_v<T>) {
    return fmt::format("{}", static_cast<int>(value));
  } else if constexpr (requires { value.coeffs(); }) {
    return json_of(value.coeffs());
  } else if constexpr (requires { visit_fields(value, [](auto, const auto&) {}); }) {
    std::string all;
    visit_fields(value, [&](std::string_view name, const auto& field) {
      all += fmt::format("{}\"{}\":{}", all.empty() ? "" : ",", name, json_of(field));
    });
    return fmt::format("{{{}}}", all);
  } else if constexpr (requires { value.rows(); }) {
    std::string all;
    for (Eigen::Index i = 0; i < value.rows(); ++i) {
      all += fmt::format("{}{}", i > 0 ? "," : "", value[i]);
    }
    return fmt::format("[{}]", all);
  } else if constexpr (std::is_convertible_v<T, std::string_view>) {
    return fmt::format("\"{}\"", std::string_view(value));
  } else if constexpr (requires { value.begin(); }) {
    std::string all;
    for (const auto& item : value) {
      all += fmt::format("{}{}", all.empty() ? "" : ",", json_of(item));
    }
    return fmt::format("[{}]", all);
  } else {
    return fmt::format("{}", value);
  }
}

/// A Motion of the kinds `Kind`. Game code spawns and puts values through it.
template <class... Kind>
class TypedMotion : public Motion {
 public:
  template <class T>
  std::uint32_t spawn(kwind::replica::World& world, const T& value) {
    const auto ref = world.spawn(value);
    if (!ref) throw std::length_error("all ids are taken: see `entities up to`");
    all_.insert_or_assign(ref->id, One{*ref, value});
    return ref->id;
  }
  template <class T>
  T& at(std::uint32_t id) {
    return std::get<T>(all_.at(id).value);
  }
  /// Hands what at() changed to the world.
  void put(kwind::replica::World& world, std::uint32_t id) {
    One& one = all_.at(id);
    std::visit(
        [&](const auto& value) {
          using T = std::decay_t<decltype(value)>;
          world.put(kwind::schema::Ref<T>{one.ref.id, one.ref.generation}, value);
        },
        one.value);
  }

  [[nodiscard]] std::vector<std::uint32_t> ids() const override {
    std::vector<std::uint32_t> all;
    for (const auto& [id, one] : all_) all.push_back(id);
    return all;
  }
  [[nodiscard]] const kwind::schema::EntityInfo& kind(std::uint32_t id) const override {
    return std::visit(
        [](const auto& value) -> const auto& { return value.entity_info(); }, all_.at(id).value);
  }
  [[nodiscard]] std::vector<std::byte> bits(std::uint32_t id, bool owner) const override {
    return std::visit([&](const auto& value) { return bits_of(value, owner); }, all_.at(id).value);
  }
  [[nodiscard]] ColumnValues columns(std::uint32_t id, bool owner) const override {
    return std::visit([&](const auto& value) { return columns_of(value, owner); },
                      all_.at(id).value);
  }
  [[nodiscard]] std::string json(std::uint32_t id) const override {
    return std::visit(
        [&](const auto& value) {
          using T = std::decay_t<decltype(value)>;
          std::string text = fmt::format("{{\"id\":{},\"type\":\"{}\"", id, T::entity_info().name);
          visit_fields(value, [&](std::string_view name, const auto& field) {
            text += fmt::format(",\"{}\":{}", name, json_of(field));
          });
          return text + "}";
        },
        all_.at(id).value);
  }
  [[nodiscard]] std::vector<std::byte> held(const kwind::replica::ClientWorld& client_world,
                                            kwind::schema::AnyRef ref) const override {
    return std::visit(
        [&](const auto& value) {
          using T = std::decay_t<decltype(value)>;
          const auto copy = client_world.get(kwind::schema::Ref<T>{ref.id, ref.generation});
          return copy ? bits_of(*copy, client_world.owns(ref)) : std::vector<std::byte>{};
        },
        all_.at(ref.id).value);
  }

 private:
  struct One {
    kwind::schema::AnyRef ref;
    std::variant<Kind...> value;
  };
  std::map<std::uint32_t, One> all_;
};

struct Path {
  double ticks_per_second = 20;
  int round_trip_ticks = 2;  ///< 100 ms at 20 Hz
  double loss = 0.02;        ///< each way
};

struct Measured {
  double mean = 0;  ///< bytes of snapshots per client and tick
  double p95 = 0;
  /// Quantised deltas against the newest acknowledged state, written by hand: an id, a bit for each
  /// field, and what is not acknowledged again in each tick.
  double simple = 0;
  /// Age of the values shown, in ticks, of all entities in view once a snapshot arrived: how long
  /// before that snapshot's tick the value shown, or nothing, had stopped to be the server's.
  double stale = 0;  ///< share that is older than its snapshot
  int age_p99 = 0;
  int age_worst = 0;
  double entropy = 0;   ///< the same, were each symbol to take what its frequency asks for
  double unusable = 0;  ///< share of frames that were lost, or built on one that was
  double in_view = 0;   ///< entities
  double changed = 0;   ///< of these, a tick
  double json_view = 0;
  double json_changed = 0;
  double zstd = 0;          ///< of the JSON text of what changed, one stream a client
  double datagrams = 0;     ///< share of ticks in which a frame left
  std::uint64_t wrong = 0;  ///< values of client worlds that differed from the server's
  std::uint64_t checked = 0;
};

struct Run {
  std::size_t clients = 10;
  int warm_up = 100;  ///< ticks that are not counted; at most five for each that is
  int ticks = 600;
  Path path{};
  std::uint64_t seed = 1;                                     ///< of the path
  std::shared_ptr<const kwind::replica::CodeTables> codes{};  ///< those of the world
  kwind::replica::SymbolCounts* symbol_counts =
      nullptr;  ///< counts what is sent, for codes that fit it
  kwind::replica::ReplicatorOptions replicator{};
  bool text = true;   ///< with JSON and zstd
  bool exact = true;  ///< all values are compared, and their age is measured
};

/// Runs `motion` and compares all values that clients hold with the world's.
Measured measure(kwind::replica::World& world, const kwind::schema::EntitiesInfo& entities,
                 Motion& motion, const Run& run);

}  // namespace lab
