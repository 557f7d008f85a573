// An entity takes values of its own type only.
// Refused with: (no matching (member )?function|cannot convert|no viable conversion).*
#include "ferry.h"
#include "kwind/replica/world.h"

bool move(kwind::replica::World& world, kwind::schema::Ref<ferry::Gull> gull) {
#ifdef KWIND_WRONG
  return world.put(gull, ferry::Ferry{});
#else
  return world.put(gull, ferry::Gull{});
#endif
}
