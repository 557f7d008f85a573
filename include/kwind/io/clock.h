// The only clock and the only source of random bytes in the library.
#pragma once
#include <cstdint>

#include "kwind/bits/digest.h"
#include "kwind/bits/time.h"

namespace kwind::io {

/// Monotonic time since the machine's start. Safe from any thread.
Time now();
/// 16 random bytes from the system, for keys, secrets and nonces. Safe from any thread.
bits::Key128 entropy();

}  // namespace kwind::io
