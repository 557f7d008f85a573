// A random walk over a replicated world and its clients against a model: fields of every type,
// spawns, despawns, owners, rooms, filters, followed entities, clients of older versions, paths that
// lose, double and delay.
// After each snapshot a client holds what the world held then, and nothing that it may not see; in
// the end it holds all that is in its view.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cmath>
#include <map>
#include <memory>
#include <optional>
#include <random>
#include <set>

#include "kit/any_entity.h"
#include "kit/random_description.h"
#include "kit/sweep.h"
#include "kwind/language/compile.h"
#include "kwind/replica/client_replicator.h"
#include "kwind/replica/client_world.h"
#include "kwind/replica/interest.h"
#include "kwind/replica/world.h"
#include "kwind/schema/sample.h"
#include "properties/world_model.h"

namespace kwind::language {
namespace world_walk_test {

using replica::EntityEvent;

// Beside the entities of a random description: one that moves, one with an update rate, one that is
// larger than a datagram, one with grids, two that move in space and differ in freshness, and one
// that is attached to another. Version 4 is the newest: it lacks Beacons.
constexpr const char* kMore = R"(
entity Walker {
  speed : real 0..9 step 1/8
  course : angle step 1 smooth since 3
  at : vec2 of real -200..<200 step 1/16 follow speed along course
  orders : text 60 owner only since 2
  load : list of int 0..99 up to 8 until 4
}
entity Beacon, at most 5/s until 4 {
  at : vec2 of real -200..<200 step 1/16 at spawn
  height : int 0..1000
}
entity Ledger {
  colour : enum { blue, red since 2 else blue, gold since 4 else red }
  at : vec2 of real -200..<200 step 1/16
  page : int 0..1000
  lines : text 4000
}
entity Chart { inks : grid of enum { blank, pencil, red } 40 x 40, secret : grid of bool 9 x 9 owner only }
entity Swift since 3 {
  heading : direction3 within 1 smooth
  speed : real -9..9 step 1/8 lazy
  at : vec3 of real -200..<200 step 1/16 follow speed along heading
  lamp : bool urgent
  log : text 40 lazy
}
entity Balloon, urgent {
  drift : vec3 of real -9..9 step 1/8
  at : vec3 of real -200..<200 step 1/16 follow drift
  ballast : int 0..100 owner only lazy
}
entity Parcel {
  aboard : ref Ledger
  at : vec2 of real -200..<200 step 1/16 relative to aboard
}
)";

struct Client {
  Client(replica::World& world, replica::Interest& interest, const schema::EntitiesInfo& infos,
         bool speculative_baselines, std::uint16_t version_in)
      : version(version_in),
        query(interest),
        replicator(world, {.speculative_baselines = speculative_baselines, .version = version_in}),
        client_world(infos, 20, nullptr, version_in) {}

  std::uint16_t version;
  replica::InterestQuery query;
  replica::ClientReplicator replicator;
  replica::ClientWorld client_world;
  bool sees_through = false;
  // The path.
  double loss = 0;
  double doubled = 0;
  double late = 0;
  double mistaken = 0;
  int one_way = 1;
  struct Snapshot {
    std::vector<std::byte> bytes;
    std::size_t bits;
    std::uint64_t token;
  };
  std::multimap<int, Snapshot> under_way;
  std::multimap<int, std::pair<std::uint64_t, bool>> fates;
  std::multimap<int, std::uint32_t> resyncs;
  // What the model says.
  std::set<std::uint32_t> rooms;
  std::set<std::uint32_t> owned;
  int filter = 0;  // ids that this divides are hidden; 0: none
  std::optional<Model::Place> eye;
  std::uint32_t follows = 0;
  bool is_eye_known = true;
  std::map<std::uint32_t, std::pair<int, int>> must;  // ticks in a row: in view, out of view
  std::set<std::pair<std::uint32_t, std::uint8_t>> shown;
  std::set<std::pair<std::uint32_t, std::uint8_t>> there;  // by events
};

class WorldWalk {
 public:
  WorldWalk(const schema::Protocol& protocol, std::uint64_t seed)
      : random_(seed),
        numbers_(seed),
        model_(protocol),
        world_(model_.infos(), {.reuse_after_ticks = one_in(2) ? 5U : 100U}),
        interest_(world_, options()) {
    for (int i = 0; i < 3; ++i) {
      const bool is_old = one_in(2);
      const auto version = static_cast<std::uint16_t>(is_old ? 1 + below(3) : protocol.version);
      auto& client = clients_.emplace_back(
          std::make_unique<Client>(world_, interest_, model_.infos(), one_in(2), version));
      client->sees_through = one_in(2);
      if (client->sees_through) client->replicator.bind(&client->query);
      if (one_in(3)) client->loss = 0.2 * even();
      if (one_in(3)) client->doubled = 0.1;
      if (one_in(3)) client->late = 0.2;
      if (one_in(4)) client->mistaken = 0.05;
      client->one_way = 1 + static_cast<int>(below(4));
    }
  }

  void run() {
    for (int i = 0; i < 120; ++i) {
      change();
      tick();
    }
    for (const auto& client : clients_)
      client->loss = client->doubled = client->late = client->mistaken = 0;
    for (int i = 0; i < 120; ++i) tick();
    for (const auto& client : clients_) check_complete(*client);
  }
  [[nodiscard]] int now() const { return now_; }
  [[nodiscard]] std::size_t compared() const { return compared_; }

 private:
  static constexpr double kEnter = 60;
  static constexpr double kLeave = 75;

  std::int64_t below(std::int64_t limit) {
    return static_cast<std::int64_t>(random_() % static_cast<std::uint64_t>(limit));
  }
  bool one_in(std::int64_t n) { return below(n) == 0; }
  double even() { return static_cast<double>(random_() >> 11) * 0x1p-53; }
  replica::InterestOptions options() {
    replica::InterestOptions options;
    options.enter = kEnter;
    options.leave = kLeave;
    options.update_every = look_every_ = static_cast<std::uint32_t>(1 + below(4));
    if (is_beacon_always_) options.types.push_back({.type = "Beacon", .always = true});
    return options;
  }

  // ---- acts ----
  Value sample(std::size_t kind) {
    Value value = schema::sample_value(model_.protocol(), model_.fields(kind),
                                       schema::SampleSize::any, numbers_);
    // Most parcels are attached to a ledger, some to none, some to one that is gone.
    if (model_.protocol().entities[kind].name != "Parcel") return value;
    if (one_in(4)) value.items[0].whole = 0;
    for (const auto& [id, one] : model_.all()) {
      if (model_.protocol().entities[one.kind].name != "Ledger" || !one_in(2)) continue;
      value.items[0].whole = std::int64_t{id} | std::int64_t{one.ref.generation} << 32;
    }
    return value;
  }
  Model::One* some_entity() {
    if (model_.all().empty()) return nullptr;
    auto found = model_.all().begin();
    std::advance(found, below(std::ssize(model_.all())));
    return &found->second;
  }
  void spawn() {
    const auto kind = static_cast<std::size_t>(below(std::ssize(model_.protocol().entities)));
    model_.choose(kind);
    AnyEntity made{sample(kind)};
    if (const auto ref = world_.spawn(made)) {
      model_.all()[ref->id] = {{ref->id, ref->generation}, kind, std::move(made.value)};
    }
  }
  void put(Model::One& one) {
    model_.choose(one.kind);
    Value next = sample(one.kind);
    const auto& fields = model_.fields(one.kind);
    // One field as a rule, all of them now and then; a Walker moves in steps.
    const auto chosen = static_cast<std::size_t>(below(std::ssize(fields)));
    const bool whole = one_in(6);
    for (std::size_t i = 0; i < fields.size(); ++i) {
      const bool stays = fields[i].words.at_spawn || (!whole && i != chosen);
      if (stays) next.items[i] = one.value.items[i];
    }
    require(world_.put(schema::Ref<AnyEntity>{one.ref.id, one.ref.generation}, AnyEntity{next}),
            "an entity that is there cannot be put");
    one.value = next;
  }
  void move(Model::One& one) {
    if (model_.protocol().entities[one.kind].name != "Walker") return;
    model_.choose(one.kind);
    const double angle = one.value.items[1].real * std::acos(-1.0) / 180;
    Value& at = one.value.items[2];
    const double step = one.value.items[0].real / 20;
    const double next_x = at.items[0].real + std::cos(angle) * step;
    const double next_y = at.items[1].real + std::sin(angle) * step;
    if (std::abs(next_x) > 199 || std::abs(next_y) > 199) return;
    at.items[0].real = next_x;
    at.items[1].real = next_y;
    (void)world_.put(schema::Ref<AnyEntity>{one.ref.id, one.ref.generation}, AnyEntity{one.value});
  }
  void change() {
    if (model_.all().size() < 40 && one_in(3)) spawn();
    if (one_in(12)) {
      if (Model::One* one = some_entity()) {
        const std::uint32_t id = one->ref.id;
        require(world_.despawn(one->ref), "an entity that is there cannot go");
        for (const auto& client : clients_) {
          client->owned.erase(id);
          client->must.erase(id);
          if (client->follows == id) {
            client->is_eye_known = false;
            client->follows = 0;
          }
        }
        model_.all().erase(id);
      }
    }
    for (auto& [id, one] : model_.all()) {
      if (one_in(5)) put(one);
      move(one);
    }
    if (Model::One* one = some_entity(); one != nullptr && one_in(8)) {
      one->room = static_cast<std::uint32_t>(below(4));
      require(interest_.put_in_room(one->ref, one->room), "an entity goes into no room");
    }
    for (const auto& client : clients_) change_client(*client);
  }
  void change_client(Client& client) {
    if (one_in(15)) {
      const auto room = static_cast<std::uint32_t>(1 + below(3));
      if (client.rooms.erase(room) > 0) {
        client.query.leave_room(room);
      } else {
        client.rooms.insert(room);
        client.query.enter_room(room);
      }
    }
    if (one_in(20)) {
      client.filter = one_in(2) ? 0 : static_cast<int>(2 + below(3));
      if (client.filter == 0) {
        client.query.set_filter(nullptr);
      } else {
        client.query.set_filter([by = client.filter](schema::AnyRef ref) {
          return ref.id % static_cast<std::uint32_t>(by) != 0;
        });
      }
    }
    if (one_in(10)) {
      client.eye = Model::Place{400 * even() - 200, 400 * even() - 200, 100 * even()};
      client.follows = 0;
      client.is_eye_known = true;
      client.query.set_origin(client.eye->x, client.eye->y, *client.eye->z);
    }
    Model::One* one = some_entity();
    if (one == nullptr) return;
    // Where an attached entity is whose carrier is gone only the server knows.
    if (one_in(10) && !model_.carrier(*one).is_named) {
      client.query.set_origin(one->ref);
      // Of a kind without a place the view stays where it was looked from last.
      const bool is_placed = model_.place(*one).has_value();
      if (is_placed || client.follows != 0) client.is_eye_known = is_placed;
      client.follows = is_placed ? one->ref.id : 0;
    }
    if (one_in(8)) {
      if (client.owned.erase(one->ref.id) > 0) {
        client.query.remove_owned(one->ref);
      } else {
        client.owned.insert(one->ref.id);
        client.query.add_owned(one->ref);
      }
    }
  }

  // ---- ticks ----
  void tick() {
    ++now_;
    model_.note(world_.tick());
    world_.end_tick();
    for (const auto& client : clients_) {
      check_view(*client);
      if (!client->sees_through) client->replicator.see(client->query);
      send(*client);
      arrive(*client);
    }
  }
  void check_view(Client& client) {
    if (client.follows != 0 && model_.all().contains(client.follows)) {
      const Model::One& followed = model_.all().at(client.follows);
      client.is_eye_known = !model_.carrier(followed).is_named;
      client.eye = model_.place(followed);
    }
    std::set<std::uint32_t> seen;
    for (const replica::RelevantEntity& each : client.query.update()) {
      require(seen.empty() || *seen.rbegin() < each.id, "a view is not in order");
      seen.insert(each.id);
      const auto found = model_.all().find(each.id);
      require(found != model_.all().end(), "a view holds what is gone");
      client.shown.insert({each.id, found->second.ref.generation});
      require(!each.owner || client.owned.contains(each.id), "a view says owner of another's");
    }
    for (const auto& [id, one] : model_.all()) {
      auto& [in, out] = client.must[id];
      const int said = wants(client, one);
      in = said > 0 ? in + 1 : 0;
      out = said < 0 ? out + 1 : 0;
      const int patience = static_cast<int>(look_every_) + 1;
      require(in < patience || seen.contains(id), where(client, one) + " should be in view");
      require(out < patience || !seen.contains(id), where(client, one) + " should not be in view");
    }
  }
  [[nodiscard]] std::string where(const Client& client, const Model::One& one) const {
    std::string text = fmt::format("{} {} in room {}", model_.protocol().entities[one.kind].name,
                                   one.ref.id, one.room);
    if (const auto place = model_.place(one)) {
      text += fmt::format(" at {:.1f} {:.1f} {:.1f}", place->x, place->y, place->z.value_or(0));
    }
    if (client.eye)
      text += fmt::format(", seen from {:.1f} {:.1f} {:.1f}", client.eye->x, client.eye->y,
                          client.eye->z.value_or(0));
    if (client.follows != 0) text += fmt::format(" of {}", client.follows);
    return text;
  }
  // By filter or room.
  [[nodiscard]] static bool wants_hidden(const Client& client, const Model::One& one) {
    const bool hidden =
        client.filter != 0 && one.ref.id % static_cast<unsigned>(client.filter) == 0;
    return hidden || (one.room != 0 && !client.rooms.contains(one.room));
  }
  // 1: must be in view; -1: must not; 0: on the border, or not known.
  [[nodiscard]] int wants(const Client& client, const Model::One& one) const {
    if (client.owned.contains(one.ref.id)) return 1;
    if (wants_hidden(client, one)) return -1;
    const Model::Carrier on = model_.carrier(one);
    // Where it is whose carrier is gone, or has no place, only the server knows.
    if (on.is_named && (on.one == nullptr || !model_.place(*on.one))) return 0;
    // Who may not see the carrier does not see what is attached. A carrier that the client owns is
    // seen, whatever else.
    if (on.one != nullptr && !client.owned.contains(on.one->ref.id) &&
        wants_hidden(client, *on.one)) {
      return -1;
    }
    const auto place = model_.world_position(one);
    if (!place || (is_beacon_always_ && model_.protocol().entities[one.kind].name == "Beacon")) {
      return 1;
    }
    if (!client.is_eye_known) return 0;
    // A carrier is in view together with its attached entities.
    const int unseen = model_.carries(one) ? 0 : -1;
    if (!client.eye) return unseen;
    const double height = place->z ? *place->z - client.eye->z.value_or(0) : 0;
    const double far = std::hypot(place->x - client.eye->x, place->y - client.eye->y, height);
    if (far > kLeave + 0.2) return unseen;
    return far < kEnter - 0.2 ? 1 : 0;
  }
  void send(Client& client) {
    for (int i = 0; i < 3; ++i) {
      std::vector<std::byte> memory(1200);
      bits::Writer out(memory);
      const auto token = client.replicator.fill(Time{}, out);
      if (!token) break;
      const std::size_t bits = out.bit_count();
      memory.resize(out.finish());
      if (even() < client.loss) {
        client.fates.emplace(now_ + 2 * client.one_way + 2, std::pair(*token, false));
        continue;
      }
      const auto copies = even() < client.doubled ? 2 : 1;
      for (int copy = 0; copy < copies; ++copy) {
        const int extra = even() < client.late ? static_cast<int>(below(12)) : 0;
        client.under_way.emplace(now_ + client.one_way + extra,
                                 Client::Snapshot{memory, bits, *token});
      }
    }
  }
  void arrive(Client& client) {
    while (!client.under_way.empty() && client.under_way.begin()->first <= now_) {
      const Client::Snapshot snapshot = std::move(client.under_way.begin()->second);
      client.under_way.erase(client.under_way.begin());
      const Errc error = client.client_world.receive(snapshot.bytes, snapshot.bits);
      require(error == Errc::none || error == Errc::base_missing || error == Errc::replayed,
              "a frame is refused: " + std::string(error_info(error).name));
      if (error == Errc::replayed) continue;
      if (error == Errc::none) check_client_world(client);
      client.fates.emplace(now_ + client.one_way,
                           std::pair(snapshot.token, even() >= client.mistaken));
    }
    if (const auto snapshot = client.client_world.wants_resync()) {
      client.resyncs.emplace(now_ + client.one_way, *snapshot);
    }
    while (!client.resyncs.empty() && client.resyncs.begin()->first <= now_) {
      (void)client.replicator.receive_resync_request(client.resyncs.begin()->second);
      client.resyncs.erase(client.resyncs.begin());
    }
    while (!client.fates.empty() && client.fates.begin()->first <= now_) {
      const auto [token, arrived] = client.fates.begin()->second;
      client.fates.erase(client.fates.begin());
      client.replicator.on_delivery(token, arrived);
    }
  }
  void check_client_world(Client& client) {
    for (const EntityEvent& event : client.client_world.take_events()) {
      const auto key = std::pair(event.entity.id, event.entity.generation);
      switch (event.type) {
        case EntityEvent::Type::spawned:
          require(client.there.insert(key).second, "an entity appeared twice");
          break;
        case EntityEvent::Type::despawned:
          require(client.there.erase(key) > 0, "an entity vanished that was not there");
          break;
        case EntityEvent::Type::updated:
          require(client.there.contains(key), "an entity changed that was not there");
          break;
      }
    }
    std::set<std::pair<std::uint32_t, std::uint8_t>> there;
    for (const schema::AnyRef& ref : client.client_world.entities()) {
      there.insert({ref.id, ref.generation});
      const std::size_t kind = *client.client_world.type_of(ref);
      const std::string name =
          fmt::format("{} {} as of tick {}", model_.protocol().entities[kind].name, ref.id,
                      client.client_world.state_tick(ref));
      require(client.shown.contains({ref.id, ref.generation}), name + " was never in view");
      model_.choose(kind);
      const auto got = client.client_world.get(schema::Ref<AnyEntity>{ref.id, ref.generation});
      require(got.has_value(), name + " cannot be read");
      const bool mine = client.client_world.owns(ref);
      const schema::View view = mine ? schema::View::owner : schema::View::others;
      require(model_.protocol().entities[kind].life.alive(client.version),
              name + " is of a type that its version lacks");
      require(held_then(ref, kind, got->value, {view, client.version},
                        client.client_world.state_tick(ref)),
              name + " has other values");
      check_defaults(client, kind, got->value, name);
      ++compared_;
      if (!mine) check_secret(kind, got->value, name);
      check_sample(client, ref, kind, name);
    }
    require(there == client.there, "the events say otherwise than the list of entities");
  }
  // Of a kind that is told seldom, the values of its last turn.
  [[nodiscard]] bool held_then(schema::AnyRef ref, std::size_t kind, const Value& value,
                               const Model::Shown& who, std::uint32_t tick) const {
    const unsigned rate = model_.protocol().entities[kind].at_most_per_second;
    const std::uint32_t turns = rate == 0 ? 1 : 20 / rate;
    const Bits bits = model_.bits_of(kind, value, who);
    for (std::uint32_t back = 0; back < turns && back < tick; ++back) {
      const Value* const right = model_.at(ref, tick - back);
      if (right != nullptr && model_.bits_of(kind, *right, who) == bits) return true;
    }
    return false;
  }
  // What the client's version lacks.
  void check_defaults(const Client& client, std::size_t kind, const Value& value,
                      const std::string& name) const {
    const auto& fields = model_.fields(kind);
    for (std::size_t i = 0; i < fields.size(); ++i) {
      if (fields[i].words.local != schema::Local::no || fields[i].travels(client.version)) continue;
      require(value.items[i] == schema::initial_value(model_.protocol(), fields[i]),
              name + ": " + fields[i].name + " is not in its version");
    }
  }
  void check_secret(std::size_t kind, const Value& value, const std::string& name) const {
    const auto& fields = model_.fields(kind);
    for (std::size_t i = 0; i < fields.size(); ++i) {
      if (!fields[i].words.owner_only) continue;
      require(value.items[i] == schema::initial_value(model_.protocol(), fields[i]),
              name + ": " + fields[i].name + " is the owner's alone");
    }
  }
  // Both ends of what is drawn are states that the entity had.
  void check_sample(Client& client, schema::AnyRef ref, std::size_t kind, const std::string& name) {
    if (!one_in(20)) return;
    const double moment = client.client_world.state_tick(ref) - 8 * even() + 2;
    const auto drawn =
        client.client_world.sample(schema::Ref<AnyEntity>{ref.id, ref.generation}, moment);
    if (!drawn) return;  // not there then
    require(drawn->part >= 0 && drawn->part <= 1, name + " is drawn beyond its states");
    const auto had = [&](const Value& value) {
      const Model::Shown who{schema::View::others, client.version, false};
      const Bits bits = model_.bits_of(kind, value, who);
      for (const auto& [tick, row] : model_.rows(ref)) {
        if (model_.bits_of(kind, row, who) == bits) return true;
      }
      return false;
    };
    require(had(drawn->value), name + " is drawn from a state that it never had");
    if (!drawn->to.items.empty())
      require(had(drawn->to), name + " is drawn towards none that it had");
  }
  // An entity attached to one that stands still is where the model has it.
  void check_position(const Client& client, const Model::One& one) {
    const Model::Carrier on = model_.carrier(one);
    if (!on.is_named) return;
    const auto found = client.client_world.position(one.ref, client.client_world.tick());
    const auto wanted = model_.world_position(one);
    const bool is_known = on.one != nullptr && client.client_world.is_there(on.one->ref);
    require(found.has_value() == is_known,
            "a parcel has a position without its carrier, or none with it");
    if (!found) return;
    constexpr double kRounded = 2.0 / 16;
    require(std::hypot((*found)[0] - wanted->x, (*found)[1] - wanted->y) <= kRounded,
            "a parcel is elsewhere in the end");
  }
  void check_complete(Client& client) {
    std::set<std::uint32_t> ids;
    for (const schema::AnyRef& ref : client.client_world.entities()) {
      ids.insert(ref.id);
      require(client.client_world.owns(ref) == client.owned.contains(ref.id),
              "another owner in the end");
      const Model::One& one = model_.all().at(ref.id);
      require(one.ref == ref, "an old entity in the end");
      model_.choose(one.kind);
      const auto got = client.client_world.get(schema::Ref<AnyEntity>{ref.id, ref.generation});
      const bool mine = client.owned.contains(ref.id);
      const schema::View view = mine ? schema::View::owner : schema::View::others;
      // What has a tolerance may stay off by as much.
      const std::string& kind = model_.protocol().entities[one.kind].name;
      check_position(client, one);
      const bool is_exact = kind != "Mover";
      const Model::Shown who{view, client.version, is_exact};
      require(model_.bits_of(one.kind, got->value, who) == model_.bits_of(one.kind, one.value, who),
              fmt::format("{} {} has other values in the end", kind, ref.id));
      if (is_exact) continue;
      const Model::Place here = *model_.place({ref, one.kind, got->value});
      const Model::Place there = *model_.place(one);
      constexpr double kTolerance = 0.25 + 1.0 / 16;
      require(std::hypot(here.x - there.x, here.y - there.y) <= kTolerance,
              fmt::format("{} {} is too far off in the end", kind, ref.id));
    }
    std::set<std::uint32_t> wanted;
    for (const replica::RelevantEntity& each : client.query.update()) {
      const std::size_t kind = model_.all().at(each.id).kind;
      if (model_.protocol().entities[kind].life.alive(client.version)) wanted.insert(each.id);
    }
    require(ids == wanted,
            fmt::format("{} entities of {} are there in the end", ids.size(), wanted.size()));
    require(client.replicator.complete() && client.replicator.view_complete(),
            "it is not complete");
    require(client.client_world.counts().desyncs == 0, "a digest differed");
  }

  std::mt19937_64 random_;
  schema::SampleNumbers numbers_;
  bool is_beacon_always_ = one_in(3);
  std::uint32_t look_every_ = 1;
  Model model_;
  replica::World world_;
  replica::Interest interest_;
  std::vector<std::unique_ptr<Client>> clients_;
  int now_ = 0;
  std::size_t compared_ = 0;
};

TEST(WorldWalk, HoldsAgainstTheModel) {
  std::size_t walks = 0;
  std::size_t compared = 0;
  const auto seeds = kit::seeds(kit::kSanitized ? 8 : 60, 5000);
  for (const std::uint64_t seed : seeds) {
    const std::string text = kit::RandomDescription(seed, 0, true).text("made_up") + kMore;
    const Compiled made = compile(text, "made_up.kw");
    if (!made.ok()) continue;  // awkward names may clash
    WorldWalk walk(made.protocol, seed);
    try {
      walk.run();
    } catch (const Wrong& wrong) {
      FAIL() << "seed " << seed << ", tick " << walk.now() << ": " << wrong.what();
    }
    ++walks;
    compared += walk.compared();
  }
  if (seeds.size() == 1) return;
  EXPECT_GT(walks, seeds.size() / 3);
  EXPECT_GT(compared, 1000 * walks);
}

}  // namespace world_walk_test
}  // namespace kwind::language
