// What `compare` says of two descriptions, held against what a server of the one and a client of
// the other do with each other: whether they agree on the version, whether each message, request
// and entity means the same at both ends.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <map>

#include "kit/any_entity.h"
#include "kit/random_description.h"
#include "kit/sim_hosts.h"
#include "kit/sweep.h"
#include "kwind/host/replicated_world.h"
#include "kwind/host/replication.h"
#include "kwind/language/compare.h"
#include "kwind/language/compile.h"
#include "kwind/replica/client_replicator.h"
#include "kwind/replica/client_world.h"
#include "kwind/replica/world.h"
#include "kwind/schema/sample.h"
#include "kwind/schema/tables.h"

namespace kwind::language {
namespace peers_test {

using namespace std::chrono_literals;
using schema::SampleNumbers;
using schema::SampleSize;
using schema::Value;

struct Side {
  explicit Side(const schema::Protocol& described)
      : protocol(described), tables(protocol), entities(protocol) {}
  Side(const Side&) = delete;
  schema::Protocol protocol;
  schema::Tables tables;
  schema::EntityTables entities;
};

// The bits of a message, and what both descriptions read in them.
std::string difference(const Side& one, const Side& other, const route::RawMessage& message) {
  bits::Reader in = message.fields;
  const std::size_t size = in.left_bits();
  std::vector<std::byte> memory(bits::bytes_for(size));
  in.get_bits(memory, size);
  const auto read = [&](const Side& side) {
    const auto& messages = side.protocol.messages;
    const auto found = std::find_if(messages.begin(), messages.end(), [&](const auto& each) {
      return each.name == message.info.name;
    });
    if (found == messages.end()) return std::string("there is no such message");
    const schema::Layout layout{message.version};
    const auto said = schema::explain(side.protocol, found->fields, memory, size, layout);
    std::string text = std::string(error_info(said.error).name) + "\n";
    for (const schema::Span& span : said.spans) {
      text += fmt::format("{} {} {} {}\n", span.path, span.first_bit, span.bits, span.raw);
    }
    return text;
  };
  const std::string first = read(one);
  if (first != read(other))
    return fmt::format("{}:\n{}---\n{}", message.info.name, first, read(other));
  return first.starts_with("none\n") ? "" : fmt::format("{}: {}", message.info.name, first);
}

// How a field travels in a version, bit by bit.
std::string bits_of(const Side& side, const schema::Field& field, const Value& value,
                    std::uint16_t version) {
  std::vector<std::byte> memory(1 << 20);
  schema::Encoder out(bits::Writer(memory), bits::Policy::clamp, version);
  Value one;
  one.items.push_back(value);
  encode_value(side.protocol, {field}, one, out);
  std::string text;
  const std::size_t size = out.bit_count();
  out.finish();
  for (bits::Reader in(memory, size); in.left_bits() > 0;) text += in.get_bool() ? '1' : '0';
  return text;
}

// A server of `after` and a client of `before` on a good path.
class Peers {
 public:
  Peers(const schema::Protocol& before, const schema::Protocol& after, std::uint64_t seed)
      : before_(before),
        after_(after),
        numbers_(seed),
        hosts_(after_.tables.info(), {.delay = 5ms}, seed),
        client_(hosts_.join(before_.tables.info())) {
    hosts_.server().on_unhandled([this](host::Peer peer, const route::RawMessage& message) {
      arrived(
          message,
          [this, peer](std::uint16_t number, const schema::AnyMessage& answer) {
            return hosts_.server().answer(peer, number, answer);
          },
          after_);
    });
    client_.on_unhandled([this](const route::RawMessage& message) {
      arrived(
          message,
          [this](std::uint16_t number, const schema::AnyMessage& answer) {
            return client_.answer(number, answer);
          },
          before_);
    });
    hosts_.run(200ms);
  }
  /// 0: they do not come together.
  [[nodiscard]] std::uint16_t version() const { return client_.version(); }

  // Every message that the agreed version has, in every direction, with values of all sizes.
  void talk() {
    for (const SampleSize payload :
         {SampleSize::min, SampleSize::any, SampleSize::any, SampleSize::typical}) {
      for (std::size_t kind = 0; kind < before_.protocol.messages.size(); ++kind) {
        send(before_, kind, payload, schema::Direction::from_client);
      }
      for (std::size_t kind = 0; kind < after_.protocol.messages.size(); ++kind) {
        send(after_, kind, payload, schema::Direction::from_server);
      }
      hosts_.run(300ms);
    }
    hosts_.run(500ms);
    if (sent_ != arrived_) note(fmt::format("{} of {} messages arrived", arrived_, sent_));
    if (asked_ != answered_) note(fmt::format("{} of {} questions answered", answered_, asked_));
  }

  // A world of each kind of entity, put in each tick, then at rest.
  void replicate() {
    const std::size_t kinds = after_.protocol.entities.size();
    if (kinds == 0) return;
    replica::World world(after_.entities.info());
    replica::ClientWorld client_world(before_.entities.info(), 20, nullptr, version());
    replica::ClientReplicator replicator(world, {.version = version()});
    client_.on_payload([&](std::span<const std::byte> payload, std::size_t bits) {
      const Errc error = client_world.receive(payload, bits);
      if (error != Errc::none) note(fmt::format("a frame: {}", error_info(error).name));
      return error;
    });
    std::map<std::uint32_t, std::pair<schema::AnyRef, Value>> there;
    std::vector<replica::RelevantEntity> seen;
    int tick = 0;
    hosts_.run(4s, [&] {
      if (tick < 8) {
        for (std::size_t kind = 0; kind < kinds; ++kind) put(world, kind, tick, there);
      }
      world.end_tick();
      ++tick;
      seen.clear();
      for (const auto& [id, one] : there) seen.push_back({id, true});
      replicator.see(seen);
      (void)hosts_.server().schedule_payload(hosts_.server().peers().front(), &replicator, 4);
    });
    client_.on_payload(nullptr);
    // Of types that the agreed version has.
    std::erase_if(there, [&](const auto& each) {
      const std::uint16_t kind = world.type_of(each.second.first)->type;
      return !after_.protocol.entities[kind].life.alive(version());
    });
    if (client_world.size() != there.size()) {
      return note(fmt::format("{} of {} entities are there", client_world.size(), there.size()));
    }
    for (const auto& [id, one] : there) compare_entity(client_world, one.first, one.second);
  }
  [[nodiscard]] const std::string& wrong() const { return wrong_; }
  [[nodiscard]] std::size_t arrivals() const { return arrived_; }

 private:
  using Reply = std::function<Errc(std::uint16_t, const schema::AnyMessage&)>;

  void note(const std::string& text) {
    if (wrong_.empty()) wrong_ = text;
  }
  void arrived(const route::RawMessage& message, const Reply& reply, const Side& here) {
    const std::string said = difference(before_, after_, message);
    if (!said.empty()) note(said);
    if (message.info.role != schema::MessageRole::request) {
      ++arrived_;
      return;
    }
    const std::size_t answer = message.info.type + 1U;
    const Value value = schema::sample_value(here.protocol, here.protocol.messages[answer].fields,
                                             SampleSize::any, numbers_);
    const Errc error = reply(message.request_id, schema::AnyMessage(here.tables, answer, value));
    if (error != Errc::none) {
      note(fmt::format("an answer to {}: {}", message.info.name, error_info(error).name));
    }
  }
  void send(const Side& side, std::size_t kind, SampleSize payload, schema::Direction way) {
    const schema::MessageType& type = side.protocol.messages[kind];
    if (type.role == schema::MessageRole::answer || !type.life.alive(version())) return;
    if (type.direction != way && type.direction != schema::Direction::both) return;
    const Value value = schema::sample_value(side.protocol, type.fields, payload, numbers_);
    const schema::AnyMessage message(side.tables, kind, value);
    const bool up = way == schema::Direction::from_client;
    const host::Peer peer = hosts_.server().peers().front();
    Errc error = Errc::none;
    if (type.role == schema::MessageRole::request) {
      const auto settle = [this](route::Ending ending, Errc, const bits::Reader*, schema::Layout*) {
        answered_ += ending == route::Ending::replied ? 1U : 0U;
        return Errc::none;
      };
      error = up ? client_.request_any(message, 2s, settle)
                 : hosts_.server().request_any(peer, message, 2s, settle);
      ++asked_;
    } else {
      error = up ? client_.send(message) : hosts_.server().send(peer, message);
      ++sent_;
      hosts_.run(20ms);  // one at a time: no sequenced one overtakes another
    }
    if (error != Errc::none) {
      note(fmt::format("sending {}: {}", type.name, error_info(error).name));
    }
  }
  void put(replica::World& world, std::size_t kind, int tick,
           std::map<std::uint32_t, std::pair<schema::AnyRef, Value>>& there) {
    const schema::Entity& entity = after_.protocol.entities[kind];
    kit::AnyEntity::choose(after_.protocol, after_.entities.info(), kind);
    kit::AnyEntity made{
        schema::sample_value(after_.protocol, entity.fields, SampleSize::any, numbers_)};
    if (tick == 0 || tick == 5) {
      if (const auto ref = world.spawn(made)) there[ref->id] = {*ref, std::move(made.value)};
      return;
    }
    for (auto& [id, one] : there) {
      schema::Ref<kit::AnyEntity> ref{one.first.id, one.first.generation};
      for (std::size_t i = 0; i < entity.fields.size() && i < one.second.items.size(); ++i) {
        if (entity.fields[i].words.at_spawn) made.value.items[i] = one.second.items[i];
      }
      if (world.put(ref, made)) one.second = made.value;
    }
  }
  // The fields that travel and are exact are the same at both ends.
  void compare_entity(const replica::ClientWorld& client_world, schema::AnyRef ref,
                      const Value& wanted) {
    const auto kind = client_world.type_of(ref);
    if (!kind) return note("an entity is not there");
    kit::AnyEntity::choose(before_.protocol, before_.entities.info(), *kind);
    const auto got = client_world.get(schema::Ref<kit::AnyEntity>{ref.id, ref.generation});
    if (!got) return note("an entity cannot be read");
    const std::vector<schema::Field>& fields = before_.protocol.entities[*kind].fields;
    const schema::Entity* of = nullptr;
    for (const schema::Entity& each : after_.protocol.entities) {
      if (each.name == before_.protocol.entities[*kind].name) of = &each;
    }
    if (of == nullptr) return note("an entity is of no kind that the server has");
    for (std::size_t i = 0; i < fields.size(); ++i) {
      if (!fields[i].travels(version())) continue;
      const auto found = std::find_if(of->fields.begin(), of->fields.end(), [&](const auto& each) {
        return each.name == fields[i].name;
      });
      if (found == of->fields.end()) return note("a field that the server has not");
      const auto at = static_cast<std::size_t>(found - of->fields.begin());
      const std::string here = bits_of(before_, fields[i], got->value.items[i], version());
      const std::string there = bits_of(after_, *found, wanted.items[at], version());
      if (here != there) {
        note(fmt::format("{}.{} is {} at the client, {} at the server", of->name, found->name, here,
                         there));
      }
    }
  }

  Side before_;
  Side after_;
  SampleNumbers numbers_;
  kit::SimHosts hosts_;
  host::Client& client_;
  std::string wrong_;
  std::size_t sent_ = 0;
  std::size_t arrived_ = 0;
  std::size_t asked_ = 0;
  std::size_t answered_ = 0;
};

std::vector<std::string> lines_of(const std::string& text) {
  std::vector<std::string> lines;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = text.find('\n', at);
    lines.push_back(text.substr(at, end - at));
    at = end + 1;
  }
  return lines;
}

void replace_in(std::string& line, const std::string& from, const std::string& to) {
  const std::size_t found = line.find(from);
  if (found != std::string::npos) line.replace(found, from.size(), to);
}

// One random edit; most of the results still compile.
void edit(std::vector<std::string>& lines, SampleNumbers& numbers) {
  const std::size_t at = numbers.up_to(lines.size() - 1);
  std::string& line = lines[at];
  const auto replace = [&](const std::string& from, const std::string& to) {
    replace_in(line, from, to);
  };
  switch (numbers.up_to(13)) {
    case 0: lines.erase(lines.begin() + static_cast<std::ptrdiff_t>(at)); return;
    case 1: std::swap(line, lines[numbers.up_to(lines.size() - 1)]); return;
    case 2: line += " since 3"; return;
    case 3: line += " until 4"; return;
    case 4:
      replace(" 4,", " 5,");
      lines[at] += "\n  fresh : bool since 5";
      return;
    case 5: line += "\n  fresh : bool"; return;
    case 6: line += "\n  here : text 9 server local"; return;
    case 7: line += "\n  there : int 0..9 client local"; return;
    case 8: line += "   # as the harbour master wished"; return;
    case 9: replace("up to ", "up to 1"); return;
    case 10: replace("..", "..1"); return;
    case 11: replace("step 1/", "step 1/2"); return;
    case 12:
      lines.emplace_back(
          "enum Weather { calm, gale }\nmessage Forecast from server on first since 5 { is : "
          "Weather }");
      replace_in(lines[0], " 4,", " 5,");
      return;
    default: lines.emplace_back("entity Gull { at : int 0..99 }"); return;
  }
}

// A record may have no fields in the newest version; the fields beside it are sent all the same.
TEST(Peers, FieldsWithoutBitsDoNotShiftTheOthers) {
  const Compiled made = compile(R"(protocol pier 2, entities up to 9
channel office ordered
record Gone { x : int 0..9 until 2 }
entity Tug { a : Gone, b : int 0..99, c : int 7..7, d : grid of bool 4 x 4, e : Gone }
)");
  ASSERT_TRUE(made.ok()) << render(made.errors.front(), made);
  Peers peers(made.protocol, made.protocol, 1);
  ASSERT_EQ(peers.version(), 2);
  peers.replicate();
  EXPECT_EQ(peers.wrong(), "");
}

// Both trained their tables with descriptions of their own; the alphabets came out the same, so the
// handshake agrees on the set. The columns of the old server's version have other names than those
// of the client's newest one.
TEST(Peers, ANewClientAndAnOldServerUseTheSameTables) {
  constexpr std::string_view kOld = R"(protocol slip 1, entities up to 9
channel office ordered
entity Tug { at : vec2 of real -100..<100 step 1/16 smooth, load : int 0..99 }
)";
  constexpr std::string_view kNew = R"(protocol slip 2, entities up to 9
channel office ordered
entity Tug {
  at    : vec2 of real -100..<100 step 1/16 smooth
  load  : int 0..99 until 2
  cargo : int 0..999 since 2
}
)";
  const Compiled old_made = compile(kOld);
  const Compiled new_made = compile(kNew);
  ASSERT_TRUE(old_made.ok() && new_made.ok());
  const Side old_side(old_made.protocol);
  const Side new_side(new_made.protocol);
  const auto trained = [](const Side& side) {
    auto counts = replica::SymbolCounts::expected(side.entities.info());
    counts.heads()[0] *= 50;
    return std::make_shared<const replica::CodeTables>(counts);
  };
  const auto old_tables = trained(old_side);
  const auto new_tables = trained(new_side);
  ASSERT_EQ(old_tables->digest(), new_tables->digest());
  host::ServerOptions server_options;
  server_options.code_table_sets = {old_tables->digest()};
  host::ClientOptions client_options;
  client_options.code_table_sets = {new_tables->digest()};
  kit::SimHosts hosts(old_side.tables.info(), {.delay = 5ms}, 1, server_options);
  host::ReplicationOptions options;
  options.view.enter = options.view.leave = 500;
  options.code_tables = {old_tables};
  host::Replication state(hosts.server(), old_side.entities.info(), options);
  state.on_client([](host::ClientView& view) { view.set_origin(0, 0); });
  kit::AnyEntity::choose(old_side.protocol, old_side.entities.info(), 0);
  SampleNumbers numbers(1);
  const auto sampled = [&] {
    const auto& fields = old_side.protocol.entities[0].fields;
    return kit::AnyEntity{
        schema::sample_value(old_side.protocol, fields, SampleSize::typical, numbers)};
  };
  const auto tug = state.world().spawn(sampled());
  ASSERT_TRUE(tug);
  host::Client& client = hosts.join(new_side.tables.info(), client_options);
  host::ReplicatedWorld world(client, new_side.entities.info(), {.code_tables = {new_tables}});
  hosts.run(5s, [&] { (void)state.world().put(*tug, sampled()); });
  EXPECT_EQ(client.version(), 1);
  EXPECT_EQ(client.code_tables(), new_tables->digest());
  EXPECT_EQ(world.client_world().size(), 1U);
  EXPECT_GT(world.client_world().counts().digests, 0U);
  EXPECT_EQ(world.client_world().counts().desyncs, 0U);
}

TEST(Peers, DoWhatCompareSays) {
  int pairs = 0;
  int harmless = 0;
  int apart = 0;
  std::size_t arrivals = 0;
  for (const std::uint64_t seed : kit::seeds(kit::kSanitized ? 40 : 300, 5000)) {
    const std::string text = kit::RandomDescription(seed, 6, seed % 2 == 0).text("made_up");
    const Compiled before = compile(text, "before.kw");
    if (!before.ok()) continue;  // awkward names may clash
    SampleNumbers numbers(seed);
    for (int round = 0; round < 8; ++round) {
      std::vector<std::string> lines = lines_of(text);
      for (std::uint64_t edits = 1 + numbers.up_to(1); edits > 0; --edits) edit(lines, numbers);
      std::string changed;
      for (const std::string& line : lines) changed += line + "\n";
      const Compiled after = compile(changed, "after.kw");
      if (!after.ok()) continue;
      ++pairs;
      bool fine = true;
      for (const Change& change : compare(before.protocol, after.protocol)) {
        fine = fine && change.impact == Impact::harmless;
      }
      const std::vector<std::uint16_t> refused = refused_versions(before.protocol, after.protocol);
      ASSERT_EQ(fine, refused.empty()) << "seed " << seed << ", round " << round << "\n" << changed;
      std::uint16_t best = 0;
      for (std::uint16_t v = schema::oldest_version(before.protocol); v <= before.protocol.version;
           ++v) {
        if (std::find(refused.begin(), refused.end(), v) == refused.end()) best = v;
      }
      Peers peers(before.protocol, after.protocol, seed);
      ASSERT_EQ(peers.version(), best) << "seed " << seed << ", round " << round << "\n"
                                       << text << "----\n"
                                       << changed;
      harmless += fine ? 1 : 0;
      apart += peers.version() == 0 ? 1 : 0;
      if (peers.version() == 0) continue;
      peers.talk();
      peers.replicate();
      arrivals += peers.arrivals();
      ASSERT_EQ(peers.wrong(), "")
          << "seed " << seed << ", round " << round << ", version " << peers.version() << "\n"
          << text << "----\n"
          << changed;
      // A server of the old description and a client of the new one.
      Peers reversed(after.protocol, before.protocol, seed);
      ASSERT_EQ(reversed.version(), best);
      reversed.replicate();
      ASSERT_EQ(reversed.wrong(), "")
          << "seed " << seed << ", round " << round << ", version " << best << ", reversed\n"
          << text << "----\n"
          << changed;
    }
  }
  if (kit::seeds(2, 2).size() == 1) return;  // one seed was asked for
  EXPECT_GT(pairs, 60);
  EXPECT_GT(harmless, pairs / 5);
  EXPECT_GT(apart, pairs / 20);
  EXPECT_GT(arrivals, 20U * static_cast<std::size_t>(harmless));
}

}  // namespace peers_test
}  // namespace kwind::language
