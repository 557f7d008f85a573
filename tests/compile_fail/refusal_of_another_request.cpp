// A request is refused with one of its own refusals.
// Refused with: (cannot convert|cannot initialize|no matching (member )?function|no viable conversion).*
#include "ferry.h"
#include "kwind/route/requests.h"

enum class Weather { storm };

kwind::Errc answer(kwind::route::Responder<ferry::Board>& responder) {
#ifdef KWIND_WRONG
  return responder.refuse(Weather::storm, "not today");
#else
  return responder.refuse(ferry::BoardRefusal::full, "not today");
#endif
}
