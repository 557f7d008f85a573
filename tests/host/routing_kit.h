// Options of a server in one expression, for the tests of routing, requests and rooms.
#pragma once
#include <functional>

#include "kit/sim_hosts.h"
#include "routing.h"

namespace kwind::host {

inline ServerOptions with(const std::function<void(ServerOptions&)>& change) {
  ServerOptions options;
  change(options);
  return options;
}

}  // namespace kwind::host
