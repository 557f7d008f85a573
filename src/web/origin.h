// The origin check of web servers (RFC 6454): which pages may connect. Private to web areas.
#pragma once
#include <string>
#include <string_view>
#include <vector>

namespace kwind::web {

/// Whether a page of `origin` may connect to the server that it named `host` (with a port, as in
/// the Host header or :authority). Programs send no origin, and may. "*" in `allowed` allows all.
inline bool is_allowed_origin(std::string_view origin, std::string_view host,
                              const std::vector<std::string>& allowed) {
  if (origin.empty()) return true;
  for (const std::string& each : allowed) {
    if (each == "*" || each == origin) return true;
  }
  // A page of this server: the origin is the host that the request names, with its scheme.
  const std::size_t scheme = origin.find("://");
  return scheme != std::string_view::npos && !host.empty() && origin.substr(scheme + 3) == host;
}

}  // namespace kwind::web
