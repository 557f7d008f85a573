// The version of the library: 0.MINOR.PATCH. A new minor version may change the interface and the
// wire.
#pragma once

#define KWIND_VERSION_MAJOR 0
#define KWIND_VERSION_MINOR 2
#define KWIND_VERSION_PATCH 0
#define KWIND_VERSION "0.2.0"
