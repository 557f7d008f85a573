// The error of a send may not be ignored: a full queue would lose the message in silence.
// Refused with: (ignoring return(ed)? value|nodiscard).*
#include "ferry.h"
#include "kwind/host/client.h"

void hail(kwind::host::Client& client) {
#ifdef KWIND_WRONG
  client.send(ferry::Hail{"ahoy"});
#else
  if (client.send(ferry::Hail{"ahoy"}) != kwind::Errc::none) return;
#endif
}
