// The monotonic clock, and random bytes of the system by libsodium.
#include "kwind/io/clock.h"

#include <sodium.h>

#include "kwind/core/assert.h"

namespace kwind::io {

// CLOCK_MONOTONIC on Linux: it does not jump when the system's time is set.
Time now() {
  return Time(
      std::chrono::duration_cast<Duration>(std::chrono::steady_clock::now().time_since_epoch()));
}

// For nonces and cookies; 128 bits.
Key128 entropy() {
  // Thread-safe and idempotent; it fails only where the system has no random numbers at all.
  KWIND_ASSERT(sodium_init() >= 0);
  Key128 key{};
  randombytes_buf(key.data(), key.size());
  return key;
}

// For keys; wiped when destroyed.
Secret32 random_secret() {
  KWIND_ASSERT(sodium_init() >= 0);
  Secret32 secret;
  randombytes_buf(secret.bytes().data(), secret.bytes().size());
  return secret;
}

// Whole seconds since 1970, for tickets and certificates.
std::int64_t unix_now() {
  const auto unix = std::chrono::system_clock::now().time_since_epoch();
  return std::chrono::floor<std::chrono::seconds>(unix).count();
}

}  // namespace kwind::io
