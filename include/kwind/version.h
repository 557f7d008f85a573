// The version of the library: 0.MINOR.PATCH. A new minor version may change the interface and the
// wire.
#pragma once

#define KWIND_VERSION_MAJOR 0  ///< docs/stability.md says what each promises
#define KWIND_VERSION_MINOR 2  ///< counts up with the interface or the wire
#define KWIND_VERSION_PATCH 0  ///< counts up with anything else
#define KWIND_VERSION "0.2.0"  ///< the three as text
