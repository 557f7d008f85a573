// Why a client cannot reach a server, step by step; see `kwind diagnose`.
#pragma once
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "kwind/link/keys.h"
#include "kwind/schema/protocol.h"

namespace kwind::tool {

struct DiagnoseOptions {
  std::string address;  ///< HOST:PORT, or the URL of a web socket
  std::optional<link::PublicKey> key;
  bool plaintext = false;
  bool tcp = false;
  std::string ticket;
  const schema::Protocol* protocol = nullptr;  ///< nullptr: none is at hand
  double seconds = 3;                          ///< how long the path is measured
};

struct Step {
  enum class Found : std::uint8_t { fine, wrong, unknown };
  std::string name;
  Found found = Found::fine;
  std::string text;
  std::string advice{};  ///< with wrong: what to do
};

/// Hands each step to `tell` as it is done, and ends with the first that is wrong. Takes up to a
/// few seconds. Whether no step was wrong.
bool diagnose(const DiagnoseOptions& options, const std::function<void(const Step&)>& tell);

}  // namespace kwind::tool
