// Only what the description declares as a message can be sent.
// Refused with: (constraints not satisfied|no matching (member )?function).*
#include "ferry.h"
#include "kwind/host/server.h"

kwind::Errc heard(kwind::host::Server& server, kwind::host::Peer peer) {
#ifdef KWIND_WRONG
  return server.send(peer, ferry::Gull{});
#else
  return server.send(peer, ferry::Heard{1, "ahoy"});
#endif
}
