// Lines and tables of an explained capture, for people and as JSON.
#pragma once
#include <nlohmann/json_fwd.hpp>
#include <string>

#include "kwind/capture/account.h"

namespace kwind::tool {

/// A datagram in one line, then a line for each of its entries; `start_ns` is when time began.
std::string line_text(const capture::Line& line, std::int64_t start_ns, bool fields);
nlohmann::ordered_json line_json(const capture::Line& line, std::int64_t start_ns);

/// What all bytes were for.
std::string account_text(const capture::Account& account);
nlohmann::ordered_json account_json(const capture::Account& account);

}  // namespace kwind::tool
