// A stage of the loop of a Server or a Client: code of the library that runs inside receive() and
// flush(), so that a program cannot forget it or call it in the wrong order.
#pragma once
#include <functional>

#include "kwind/core/compiler.h"
#include "kwind/core/time.h"

namespace kwind::host {

/// Replication and ReplicatedWorld are loop stages. Thread: that of the host. A stage detaches
/// itself when it is destroyed; the host must outlive it.
class KWIND_API LoopStage {
 public:
  /// Runs game code; what it throws goes to the host's on_fault.
  using Guard = std::function<void(const std::function<void()>&)>;

  LoopStage() = default;
  LoopStage(const LoopStage&) = delete;
  LoopStage& operator=(const LoopStage&) = delete;
  virtual ~LoopStage() = default;

  /// Called at the end of receive(): everything that arrived has been delivered.
  virtual void after_receive(Time now, const Guard& guard) = 0;
  /// Called at the start of flush(): what is scheduled here is sent by this flush().
  virtual void before_flush(Time now, const Guard& guard) = 0;
  /// When before_flush() has something to do; kNever if only after new traffic.
  [[nodiscard]] virtual Time next_wakeup() const = 0;
};

}  // namespace kwind::host
