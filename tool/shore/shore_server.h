// The harbour for pages: one port serves the page and the web socket, and where it is built in
// WebTransport at the UDP port of the same number; visitors share one world with tugs that steer
// themselves. One thread.
#pragma once
#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "kwind/web/web_socket_transport.h"

namespace kwind::shore {

struct Settings {
  std::string address = "127.0.0.1:8080";
  std::vector<std::string> origins{};  ///< beside the page's own
  std::string certificate_file{};
  std::string private_key_file{};
  std::string secret_key_file{};  ///< empty: a new key for this run
  std::uint64_t seed = 1;
};

/// Serves until `interrupted`. `ready` is called once with the address of the page. Returns a
/// sentence if the address or a file cannot be used, else "".
std::string serve(const Settings& settings,
                  const std::function<void(const std::string& url)>& ready,
                  const std::function<bool()>& interrupted);

/// The page: one HTML text with its script and style.
std::string_view page_text();

}  // namespace kwind::shore
