// `kwind explain FILE.kw --capture`: what a capture holds.
#pragma once
#include <string>

namespace kwind::tool {

struct CaptureOptions {
  std::string description;
  std::string capture;
  std::string keys;
  std::string opened;      ///< write unsealed datagrams here
  std::string server;      ///< HOST:PORT of a server whose handshakes are not in the capture
  std::size_t first = 40;  ///< datagrams to list; 0: all
  bool again = false;      ///< list only those in which messages travel again
  bool fields = false;
  bool json = false;
};
/// Returns an exit code.
int explain_capture(const CaptureOptions& options);

}  // namespace kwind::tool
