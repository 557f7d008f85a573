// A peer is not a number: slots and wire ids cannot be taken for one.
// Refused with: (cannot convert|cannot initialize|no viable conversion|no matching (member )?function).*
#include "kwind/host/server.h"

void end(kwind::host::Server& server, kwind::host::Peer peer) {
#ifdef KWIND_WRONG
  server.close(server.slot(peer), "goodbye");
#else
  server.close(peer, "goodbye");
#endif
}
