// A header that another version of the generator wrote is refused, and not misread.
// Refused with: generate this header anew
#include "kwind/schema/info.h"

#ifdef KWIND_WRONG
// What the library of the next version would say.
#define kGeneratorVersion kGeneratorVersion + 1
#endif
#include "ferry.h"
