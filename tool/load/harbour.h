// The harbour as a server that bots can be let loose on, in a thread of its own: it shows each
// client what is around a place in it, and notes how long its ticks take.
#pragma once
#include <atomic>
#include <memory>
#include <mutex>
#include <optional>
#include <thread>

#include "kwind/core/endpoint.h"
#include "kwind/link/keys.h"
#include "load/histogram.h"

namespace kwind::bots {

struct HarbourLoad {
  Histogram ticks;  ///< CPU time of a tick with all of its sending, milliseconds
  double seconds = 0;
  double busy = 0;  ///< share of a core that the server took
  std::uint64_t skipped = 0;
  std::size_t entities = 0;
};

class Harbour {
 public:
  static constexpr std::size_t kMin = 1300;  ///< entities of the reference world

  /// nullptr, and why, if it gets no socket.
  static std::unique_ptr<Harbour> open(std::size_t capacity, bool plaintext, std::string& why);
  ~Harbour();
  Harbour(const Harbour&) = delete;
  Harbour& operator=(const Harbour&) = delete;

  [[nodiscard]] Endpoint address() const;
  [[nodiscard]] std::optional<link::PublicKey> key() const;
  /// From any thread: so many entities from the next tick on, those added in the shares of the
  /// reference world.
  void fill_up_to(std::size_t entities);
  /// What was seen since the last call.
  HarbourLoad take();

 private:
  struct State;
  explicit Harbour(std::unique_ptr<State> state);
  std::unique_ptr<State> state_;
};

}  // namespace kwind::bots
