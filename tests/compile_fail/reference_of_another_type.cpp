// A reference to a gull is no reference to a ferry.
// Refused with: (conversion from|no viable conversion|could not convert).*
#include "ferry.h"
#include "kwind/schema/references.h"

kwind::schema::Ref<ferry::Ferry> ferry_of(kwind::schema::Ref<ferry::Ferry> ferry,
                                          kwind::schema::Ref<ferry::Gull> gull) {
#ifdef KWIND_WRONG
  (void)ferry;
  return gull;
#else
  (void)gull;
  return ferry;
#endif
}
