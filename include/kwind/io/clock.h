// The only clock and the only source of random bytes in the library.
#pragma once
#include <cstdint>

#include "kwind/core/compiler.h"
#include "kwind/core/digest.h"
#include "kwind/core/secret.h"
#include "kwind/core/time.h"

namespace kwind::io {

/// Monotonic time since the machine's start. Safe from any thread.
KWIND_API Time now();
/// 16 random bytes from the system, for keys, secrets and nonces. Safe from any thread.
KWIND_API Key128 entropy();
/// 32 of them, for keys that are wiped after use.
KWIND_API Secret32 random_secret();
/// Seconds since 1970, by the system's clock: tickets expire by it. Safe from any thread.
KWIND_API std::int64_t unix_now();

}  // namespace kwind::io
