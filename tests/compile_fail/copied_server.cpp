// A server is not copied: two would answer for one transport.
// Refused with: (use of deleted function|call to deleted constructor).*
#include "kwind/host/server.h"

void keep(kwind::host::Server& server) {
#ifdef KWIND_WRONG
  kwind::host::Server copy(server);
  (void)copy;
#else
  kwind::host::Server& same = server;
  (void)same;
#endif
}
