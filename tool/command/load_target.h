// The server that the bots of `kwind load` go to: Saltmarsh Harbour in this process, or one that
// the arguments name.
#pragma once
#include <memory>
#include <string>
#include <vector>

#include "commands.h"
#include "kwind/schema/columns.h"
#include "load/crowd.h"
#include "load/harbour.h"

namespace kwind::tool {

struct LoadArguments {
  std::string description;
  std::string server;
  std::string key;
  std::string ticket;
  bool plaintext = false;
  bool harbour = false;
  std::string bots = "50";
  std::string entities = std::to_string(bots::Harbour::kMin);
  double hold_seconds = 5;
  double rate = 1;
  double ticks_per_second = 20;
  std::vector<std::string> limits;
  std::string picture;
  std::uint64_t seed = 1;
  bool json = false;
};

/// Prints why; returns kUsedWrongly.
int load_used_wrongly(const std::string& why);

class LoadTarget {
 public:
  /// Opens the harbour, or finds the server. kFine, or another exit code after it was printed why.
  int open(const LoadArguments& arguments, std::size_t bots);

  bots::CrowdOptions options;              ///< what the bots need to know of it
  std::unique_ptr<bots::Harbour> harbour;  ///< if it is in this process

 private:
  int open_harbour(const LoadArguments& arguments, std::size_t bots);
  int find_server(const LoadArguments& arguments);

  language::Compiled source_;
  std::unique_ptr<schema::Tables> tables_;
  std::unique_ptr<schema::EntityTables> entity_tables_;
};

}  // namespace kwind::tool
