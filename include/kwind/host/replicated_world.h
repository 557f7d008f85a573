// The client's copy of a replicated world: owns the decoder of snapshots, the playout clock and the
// sender of inputs, desync reports and resync requests. The class is the joint of host and replica
// at the client: payload hooks and their order need no code of the game.
#pragma once
#include <array>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string_view>
#include <utility>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/core/lifetime.h"
#include "kwind/host/client.h"
#include "kwind/host/loop_stage.h"
#include "kwind/replica/client_world.h"
#include "kwind/replica/inputs.h"
#include "kwind/replica/playout_clock.h"
#include "kwind/route/observers.h"

namespace kwind::host {

/// How the copy of a world is kept.
struct ReplicatedWorldOptions {
  replica::PlayOutOptions playout{};  ///< how far behind the newest snapshot sample() shows
  /// In how many datagrams each input travels.
  std::size_t input_copies = 3;
  /// Tables that `kwind train` made. List their digests in ClientOptions::code_table_sets too.
  std::vector<std::shared_ptr<const replica::CodeTables>> code_tables{};
};

/// Construct it before the client connects, and destroy it before the client, which may go on
/// without it: its handlers do nothing then. Not to be destroyed in a handler. It takes the
/// client's on_payload() and set_reference_filter() for itself. Thread: that of the client.
class KWIND_API ReplicatedWorld final : public LoopStage {
 public:
  /// Borrows the client. Requires: on_payload() is not set yet.
  ReplicatedWorld(Client& client, const schema::EntitiesInfo& entities,
                  ReplicatedWorldOptions options = {});
  ~ReplicatedWorld() override;

  /// Called within Client::receive(), in the order of the snapshots. Handlers add.
  template <schema::ReplicaEntity T>
  void on_spawn(std::function<void(schema::Ref<T>, const T&)> handler) {
    add<T>(replica::EntityEvent::Type::spawned, std::move(handler));
  }
  /// The same for a change of a field, or of the owner.
  template <schema::ReplicaEntity T>
  void on_update(std::function<void(schema::Ref<T>, const T&)> handler) {
    add<T>(replica::EntityEvent::Type::updated, std::move(handler));
  }
  /// The entity despawned or left the view.
  template <schema::ReplicaEntity T>
  void on_despawn(std::function<void(schema::Ref<T>)> handler) {
    handlers_.push_back({replica::EntityEvent::Type::despawned, T::entity_info().type,
                         [handler = std::move(handler)](schema::AnyRef entity) {
                           handler({entity.id, entity.generation});
                         }});
  }

  /// Called for what happens to entities of any type: for programs that know them at run time only.
  void on_any_event(std::function<void(const replica::EntityEvent&)> handler) {
    on_any_event_.add(std::move(handler));
  }

  /// The newest values that arrived. Nothing if the entity is not in view.
  template <schema::ReplicaEntity T>
  [[nodiscard]] std::optional<T> get(schema::Ref<T> entity) const {
    return world_->get(entity);
  }
  /// The values to draw at `now`: interpolated at the playout clock's tick, so that late snapshots
  /// do not show. Nothing if the entity is not in view.
  template <schema::ReplicaEntity T>
  [[nodiscard]] std::optional<T> sample(schema::Ref<T> entity, Time now) {
    const auto tick = playout_.tick_at(now);
    return tick ? world_->sample(entity, *tick) : std::nullopt;
  }
  /// The world position of an entity in view at `now`, also of an attached entity; see
  /// replica::ClientWorld::position().
  [[nodiscard]] std::optional<std::array<double, 3>> position(schema::AnyRef entity, Time now,
                                                              std::string_view field = "at") {
    const auto tick = playout_.tick_at(now);
    return tick ? world_->position(entity, *tick, field) : std::nullopt;
  }
  /// Calls `draw` with each entity of the type in view, as sample() returns it. O(entities in
  /// view).
  template <schema::ReplicaEntity T, class Draw>
  void each(Time now, const Draw& draw) {
    const auto tick = playout_.tick_at(now);
    if (!tick) return;
    for (const schema::AnyRef& entity : world_->entities()) {
      if (world_->type_of(entity) != T::entity_info().type) continue;
      const schema::Ref<T> ref{entity.id, entity.generation};
      if (const auto value = world_->sample(ref, *tick)) draw(ref, *value);
    }
  }
  /// The entity of the type that this client owns; the one with the smallest id if it owns several.
  template <schema::ReplicaEntity T>
  [[nodiscard]] std::optional<schema::Ref<T>> owned() const {
    for (const schema::AnyRef& entity : world_->entities()) {
      if (world_->type_of(entity) != T::entity_info().type || !world_->owns(entity)) continue;
      return schema::Ref<T>{entity.id, entity.generation};
    }
    return std::nullopt;
  }

  /// Queues an input: it travels in the next datagrams, several times. Returns its number, from 1.
  template <schema::Sendable T>
  std::uint32_t send_input(const T& input) {
    return inputs_->put(input, playout_.drawn());
  }
  /// Number of the newest input that the server had processed in the newest snapshot; 0: none.
  [[nodiscard]] std::uint32_t last_processed_input() const { return inputs_->used(); }

  /// The newest tick that arrived; 0 before the first.
  [[nodiscard]] std::uint32_t tick() const { return world_->tick(); }
  /// Ticks per second of the server's world; 0 before the first snapshot.
  [[nodiscard]] double tick_rate() const { return tick() > 0 ? world_->ticks_per_second() : 0; }
  /// Entities in view.
  [[nodiscard]] std::size_t size() const { return world_->size(); }
  /// Bits of snapshots that arrived so far.
  [[nodiscard]] std::uint64_t bits_received() const { return bits_received_; }
  /// The tick that sample() shows at `now`; nothing before the first snapshot.
  [[nodiscard]] std::optional<double> playout_tick(Time now) { return playout_.tick_at(now); }
  /// The clock by which sample() goes.
  [[nodiscard]] const replica::PlayoutClock& playout() const { return playout_; }
  /// The low level.
  [[nodiscard]] replica::ClientWorld& client_world() { return *world_; }
  /// The low level.
  [[nodiscard]] const replica::ClientWorld& client_world() const { return *world_; }
  /// The low level of inputs.
  [[nodiscard]] const replica::InputSender& inputs() const { return *inputs_; }

  void after_receive(Time now, const Guard& guard) override;
  void before_flush(Time now, const Guard& guard) override;
  [[nodiscard]] Time next_wakeup() const override { return kNever; }

  /// How often this copy started empty: at its construction and with each connection that did not
  /// resume. Numbers of inputs count from 1 again then.
  [[nodiscard]] std::uint64_t starts() const { return starts_; }
  /// For Predicted: called after each snapshot.
  void on_snapshot(std::function<void()> handler) { on_snapshot_.add(std::move(handler)); }

 private:
  struct Handler {
    replica::EntityEvent::Type type;
    std::uint16_t entity_type;
    std::function<void(schema::AnyRef)> call;
  };
  template <schema::ReplicaEntity T>
  void add(replica::EntityEvent::Type type, std::function<void(schema::Ref<T>, const T&)> handler) {
    handlers_.push_back(
        {type, T::entity_info().type, [this, handler = std::move(handler)](schema::AnyRef entity) {
           const schema::Ref<T> ref{entity.id, entity.generation};
           if (const auto value = world_->get(ref)) handler(ref, *value);
         }});
  }
  void begin();
  void follow_rate();
  void report(const replica::EntityEvent& event, const LoopStage::Guard& guard);

  Client& client_;
  const schema::EntitiesInfo& entities_;
  ReplicatedWorldOptions options_;
  std::unique_ptr<replica::ClientWorld> world_;
  std::unique_ptr<replica::InputSender> inputs_;
  replica::PlayoutClock playout_;
  std::vector<Handler> handlers_;
  route::Observers<const replica::EntityEvent&> on_any_event_;
  route::Observers<> on_snapshot_;
  std::vector<replica::EntityEvent> left_behind_;  // of the connection before
  std::uint32_t shown_tick_ = 0;
  std::uint64_t bits_received_ = 0;
  std::uint64_t starts_ = 0;
  Lifetime lifetime_{};
};

/// Client-side prediction and reconciliation of the entity that this client owns: applies inputs at
/// once, and again from the server's state when a prediction was wrong. Destroy it before the
/// world, which may go on without it.
template <schema::ReplicaEntity State, schema::Message Input>
class Predicted {
 public:
  /// The state after one input.
  using Step = std::function<State(const State&, const Input&)>;
  /// Whether two states look the same.
  using Same = std::function<bool(const State&, const State&)>;

  /// `step` must be the server's step. `same`: whether two states need no correction; it allows for
  /// the quantisation of the fields.
  Predicted(ReplicatedWorld& world, Step step, Same same)
      : world_(world), step_(std::move(step)), same_(std::move(same)) {
    world_.on_snapshot(lifetime_.bind([this] { correct(); }));
  }
  Predicted(const Predicted&) = delete;
  Predicted& operator=(const Predicted&) = delete;

  /// Sends an input and applies it. Does nothing until the owned entity is in view; call it once
  /// per tick.
  void apply(const Input& input) {
    if (!is_present()) return;
    const std::uint32_t number = world_.send_input(input);
    prediction_->apply(number, input);
  }
  /// The predicted state. Nothing until the owned entity is in view.
  [[nodiscard]] std::optional<State> state() const {
    return is_present() ? std::optional(prediction_->now()) : std::nullopt;
  }
  /// How often a prediction was wrong.
  [[nodiscard]] std::uint64_t corrections() const {
    return prediction_ ? prediction_->corrections() : 0;
  }

 private:
  // A prediction of the connection before counts inputs that this one never had.
  [[nodiscard]] bool is_present() const { return prediction_ && start_ == world_.starts(); }
  void correct() {
    const auto ref = world_.owned<State>();
    if (!ref) return prediction_.reset();
    const auto value = world_.get(*ref);
    if (!value) return;
    if (!is_present() || !(*ref == ref_)) {
      start_ = world_.starts();
      ref_ = *ref;
      prediction_.emplace(*value, step_, same_);
      return;
    }
    // The input number belongs to the newest snapshot. An older state of the entity (its update was
    // deferred) is not the result of that input, and corrects nothing.
    const bool is_current = world_.client_world().state_tick(*ref) == world_.tick();
    const std::uint32_t number = world_.last_processed_input();
    if (is_current && number > 0) prediction_->correct(number, *value);
  }

  ReplicatedWorld& world_;
  Step step_;
  Same same_;
  schema::Ref<State> ref_{};
  std::uint64_t start_ = 0;  // see ReplicatedWorld::starts()
  std::optional<replica::Prediction<State, Input>> prediction_{};
  Lifetime lifetime_{};
};

}  // namespace kwind::host
