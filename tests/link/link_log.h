// Events of the two ends of a simulated pair as text; and conditions that only delay.
#pragma once
#include <string>
#include <vector>

#include "kit/promises.h"

namespace kwind::kit {

struct Log {
  std::vector<std::string> client;
  std::vector<std::string> server;
  int messages_at_server = 0;

  SimPair::OnEvent hook() {
    return [this](bool at_server, const link::Event& event) {
      auto& log = at_server ? server : client;
      switch (event.kind) {
        case link::Event::Kind::opened: log.emplace_back("opened"); break;
        case link::Event::Kind::message: messages_at_server += at_server ? 1 : 0; break;
        case link::Event::Kind::payload: break;
        case link::Event::Kind::closed:
          log.push_back(std::string(error_info(event.code).name) + ": " + std::string(event.text));
          break;
      }
    };
  }
};

inline io::sim::Conditions delay(Duration one_way) {
  return {.delay = one_way};
}

}  // namespace kwind::kit
