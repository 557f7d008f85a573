// A client world that hears snapshots of a moving bay, some of them spoilt, and whatever else the
// input says. Whatever comes, it holds no more entities than the protocol has, each of them whole.
#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

#include "kwind/core/assert.h"
#include "kwind/replica/inputs.h"
#include "replica/moving_bay.h"

namespace {

using namespace kwind;

class Input {
 public:
  explicit Input(std::span<const std::byte> bytes) : left_(bytes) {}
  [[nodiscard]] bool empty() const { return left_.empty(); }
  std::uint8_t byte() {
    if (left_.empty()) return 0;
    const std::byte value = left_.front();
    left_ = left_.subspan(1);
    return std::to_integer<std::uint8_t>(value);
  }
  std::span<const std::byte> bytes(std::size_t max) {
    const auto taken = left_.first(std::min(max, left_.size()));
    left_ = left_.subspan(taken.size());
    return taken;
  }

 private:
  std::span<const std::byte> left_;
};

template <class... T>
struct Kinds {};
using AllKinds = Kinds<bay::Pile, bay::Crate, bay::Gull, bay::Tug, bay::Chart, bay::Ledger,
                       bay::Buoy, bay::Punt, bay::Kite, bay::Gust, bay::Swift, bay::Raft>;

// Of how many kinds the client has the entity.
template <class... T>
int kinds_of(const replica::ClientWorld& client_world, const schema::AnyRef& ref,
             Kinds<T...> /*all*/) {
  return (0 + ... + (client_world.get(schema::Ref<T>{ref.id, ref.generation}).has_value() ? 1 : 0));
}
int kinds_at(const replica::ClientWorld& client_world, const schema::AnyRef& ref) {
  return kinds_of(client_world, ref, AllKinds{});
}
template <class... T>
void draw_as(const replica::ClientWorld& client_world, const schema::AnyRef& ref, double tick,
             Kinds<T...> /*all*/) {
  ((void)client_world.sample(schema::Ref<T>{ref.id, ref.generation}, tick), ...);
}
void draw(const replica::ClientWorld& client_world, const schema::AnyRef& ref, double tick) {
  draw_as(client_world, ref, tick, AllKinds{});
}

}  // namespace

extern "C" int kwind_fuzz_one(const std::uint8_t* data, std::size_t size) {
  Input input(std::as_bytes(std::span(data, size)));
  static const auto codes = replica::built_in_codes(bay::kEntities);  // making them takes longest
  kit::MovingBay bay(1 + input.byte(), codes);
  bay.populate(2, 3, 3, 3, 2, 1, 1);
  bay.spawn(bay::Chart{});
  bay.spawn(bay::Ledger{1, std::string(900, 'f')});  // in parts
  replica::ClientReplicator replicator(bay.world(),
                                       {.speculative_baselines = size % 2 == 1, .digest_every = 3});
  replica::InputReceiver inputs;
  replica::ClientWorld client_world(bay::kEntities, 20, codes);
  std::vector<replica::RelevantEntity> seen;
  std::vector<std::byte> memory(400);
  for (int tick = 0; tick < 40 && !input.empty(); ++tick) {
    bay.step(0.2);
    seen.clear();
    for (const auto& [id, one] : bay.all()) seen.push_back({id, id % 2 == 0});
    replicator.see(seen);
    bits::Writer out(memory);
    const auto token = replicator.fill(Time{}, out);
    const std::uint8_t what = input.byte();
    if (what % 4 == 3) {
      const auto bytes = input.bytes(input.byte());
      const std::size_t bits = bytes.size() * 8 - (bytes.empty() ? 0 : what / 4 % 8);
      if (what >= 128) {  // from a client, to the server
        (void)inputs.receive(bytes, bits, &replicator);
        KWIND_ASSERT(inputs.waiting() <= replica::InputReceiver::kMaxWaiting);
      } else {
        (void)client_world.receive(bytes, bits);
      }
      continue;
    }
    if (!token) continue;
    const std::size_t bits = out.bit_count();
    out.finish();
    if (what % 4 == 1) {  // one bit is another one
      const std::size_t bit = (std::size_t{input.byte()} * 256 + input.byte()) % bits;
      memory[bit / 8] ^= std::byte{1} << bit % 8;
    }
    const Errc error = client_world.receive(memory, bits);
    bits::Writer report(memory);
    if (const std::size_t report_bits = client_world.report(report); report_bits > 0) {
      report.finish();
      (void)replicator.receive_desync_report(memory, report_bits);
    }
    // Unspoilt snapshots after spoilt ones may build on what they did; that is the sender's own
    // harm.
    if (error == Errc::none && what % 4 != 2) replicator.acked(*token);
    KWIND_ASSERT(client_world.size() <= 400 &&
                 client_world.size() == client_world.entities().size());
    for (const schema::AnyRef& ref : client_world.entities()) {
      const int kinds = kinds_at(client_world, ref);
      KWIND_ASSERT(kinds == 1);
      const double drawn = client_world.tick() + what / 32.0 - 4;
      draw(client_world, ref, drawn);
    }
  }
  return 0;
}
