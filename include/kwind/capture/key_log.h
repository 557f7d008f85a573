// Datagram keys as lines of text, for opening captures later: one JSON object a line,
// {"connection":65536,"version":3,"way":"up","phase":0,"cipher":"AES-256-GCM","key":"<64 hex>"}.
// Whoever has such a file can read the connections in it. Safe anywhere.
#pragma once
#include <string>
#include <string_view>
#include <vector>

#include "kwind/link/observer.h"
#include "kwind/link/spec.h"

namespace kwind::capture {

/// A line, with its end.
std::string key_line(const link::KeyNote& note);

/// What a key log holds.
struct KeyFile {
  std::vector<link::DatagramKey> keys;
  std::string problem;  ///< "line 3: ..." of the first line that is none; empty if all are
};
KeyFile read_keys(std::string_view text);

}  // namespace kwind::capture
