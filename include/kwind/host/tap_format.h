// Tapped messages as text or JSON, from generated code alone:
//
//   const auto format = host::tap_format(harbour::tables::Messages{});
//   server.set_tap([&](const host::Tapped& tapped) { log(format.line(tapped)); });
//
//   12.345 in   3 Helm{rudder: 0.5, throttle: 80}
//   {"time":12.345,"peer":3,"way":"in","kind":"Helm","fields":{"rudder":0.5,"throttle":80}}
//
// For logs and consoles; what a peer wrote is escaped. Heavy to include (fmt): do it in one file.
// Values; safe anywhere.
#pragma once
#include <fmt/format.h>

#include <string>
#include <vector>

#include "kwind/core/compiler.h"
#include "kwind/host/tap.h"
#include "kwind/schema/format.h"

namespace kwind::host {

/// Turns tapped messages into lines of text or JSON.
class KWIND_API TapFormat {
 public:
  /// One line of text.
  [[nodiscard]] std::string line(const Tapped& tapped) const {
    return fmt::format("{:.3f} {} {:>3} {}", seconds(tapped), tapped.received ? "in " : "out",
                       tapped.peer, fields(tapped.message, false));
  }
  /// One JSON object on one line.
  [[nodiscard]] std::string json(const Tapped& tapped) const {
    return fmt::format(R"({{"time":{:.3f},"peer":{},"way":"{}","kind":"{}","fields":{}}})",
                       seconds(tapped), tapped.peer, tapped.received ? "in" : "out",
                       tapped.message.info.name, fields(tapped.message, true));
  }
  /// A message alone, for reports of handlers that threw: Helm{rudder: 0.5, throttle: 80}.
  [[nodiscard]] std::string text(const route::RawMessage& message) const {
    return fields(message, false);
  }

  /// For tap_format().
  using Write = std::string (*)(const route::RawMessage&, bool as_json);
  explicit TapFormat(std::vector<Write> writers) : writers_(std::move(writers)) {}

 private:
  [[nodiscard]] static double seconds(const Tapped& tapped) {
    return std::chrono::duration<double>(tapped.at.time_since_epoch()).count();
  }
  [[nodiscard]] std::string fields(const route::RawMessage& message, bool as_json) const {
    return writers_[message.info.type](message, as_json);
  }
  std::vector<Write> writers_;  // by kind
};

namespace detail {
template <class T>
std::string tapped_text(const route::RawMessage& arrived, bool as_json) {
  T message;
  schema::Layout layout;
  layout.version = arrived.version;
  if (schema::decode_message(arrived.fields, message, layout) != Errc::none) {
    return as_json ? "null" : "bits that do not fit the description";
  }
  if (!as_json) return fmt::format("{}", message);
  std::string text;
  schema::format_detail::put_json(text, message);
  return text;
}
}  // namespace detail

template <class... T>
TapFormat tap_format(schema::MessageList<T...>) {
  return TapFormat({&detail::tapped_text<T>...});
}

}  // namespace kwind::host
