#include "load_target.h"

#include <fmt/format.h>

#include "address/address.h"
#include "harbour_world.h"
#include "key_text.h"

namespace kwind::tool {

int load_used_wrongly(const std::string& why) {
  fmt::print(stderr, "kwind load: {}\n", why);
  return kUsedWrongly;
}

// The target is the harbour in this process, or a server somewhere.
int LoadTarget::open(const LoadArguments& arguments, std::size_t bots) {
  options.rate = arguments.rate;
  options.seed = arguments.seed;
  options.ticks_per_second = arguments.ticks_per_second;
  const int result = arguments.harbour ? open_harbour(arguments, bots) : find_server(arguments);
  if (result != kFine) return result;
  std::FILE* const status = arguments.json ? stderr : stdout;
  if (arguments.harbour) {
    fmt::print(status, "Saltmarsh Harbour in this process at {}, 20 ticks a second\n",
               options.server.text());
  } else {
    fmt::print(status, "{} at {}\n", arguments.description, options.server.text());
  }
  std::fflush(status);
  return kFine;
}

// A harbour with a world of its own, in a thread of its own.
int LoadTarget::open_harbour(const LoadArguments& arguments, std::size_t bots) {
  std::string why;
  harbour = bots::Harbour::open(bots, arguments.plaintext, why);
  if (harbour == nullptr) {
    fmt::print(stderr, "kwind load: the harbour cannot open: {}\n", why);
    return kFoundWrong;
  }
  options.server = harbour->address();
  options.key = harbour->key();
  options.protocol = &harbour_world::kProtocol;
  options.entities = &harbour_world::kEntities;
  return kFine;
}

// A server's address, key and description.
int LoadTarget::find_server(const LoadArguments& arguments) {
  if (arguments.description.empty()) {
    return load_used_wrongly("name the server's description, a .kw file");
  }
  if (!load_source(arguments.description, source_)) return kFoundWrong;
  if (arguments.plaintext == !arguments.key.empty()) {
    return load_used_wrongly("give the server's --server-key, or --plaintext");
  }
  if (!arguments.plaintext) {
    options.key = public_key_of(arguments.key);
    if (!options.key) return kFoundWrong;
  }
  if (!take_ticket("load", arguments.ticket, arguments.plaintext, options.ticket)) {
    return kUsedWrongly;
  }
  const auto address = parse_server_address(arguments.server);
  if (!address) {
    fmt::print(stderr, "{}: {}\n", arguments.server, error_info(address.error()).text);
    return kFoundWrong;
  }
  if (arguments.plaintext && !address->endpoint.is_loopback()) {
    return load_used_wrongly("--plaintext is for this machine only");
  }
  options.server = address->endpoint;
  options.web_socket = address->url;
  tables_ = std::make_unique<schema::Tables>(source_.protocol);
  options.tables = tables_.get();
  options.protocol = &tables_->info();
  if (!source_.protocol.entities.empty()) {
    entity_tables_ = std::make_unique<schema::EntityTables>(source_.protocol);
    options.entities = &entity_tables_->info();
  }
  return kFine;
}

}  // namespace kwind::tool
