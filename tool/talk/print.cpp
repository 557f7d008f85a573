// Events of a conversation as text or as JSON.
#include "talk/print.h"

#include <fmt/format.h>

#include "kwind/json/line.h"
#include "kwind/json/text.h"

namespace kwind::talk {
namespace {

double seconds(const Event& event, Time start) {
  return std::chrono::duration<double>(event.at - start).count();
}

}  // namespace

std::string event_line(const schema::Protocol& protocol, const Event& event, Time start,
                       bool peers) {
  std::string line = fmt::format("{:9.3f}  ", seconds(event, start));
  const auto who = [&] {
    return peers ? fmt::format("{:>3}  ", event.peer == 0 ? "all" : std::to_string(event.peer))
                 : std::string();
  };
  switch (event.what) {
    case Event::What::connected:
      return line +
             (peers ? fmt::format("here  {}is here", who())
                    : fmt::format("here  connected, {}", event.text == "plaintext"
                                                             ? "in plaintext"
                                                             : "encrypted with " + event.text));
    case Event::What::back:
      return line + (peers ? fmt::format("back  {}is back", who())
                           : std::string("back  connected again, as who it was"));
    case Event::What::broken:
      return line + fmt::format("lost  {}; trying to come back", event.text);
    case Event::What::gone: return line + fmt::format("gone  {}{}", who(), event.text);
    case Event::What::problem: return line + fmt::format("note  {}{}", who(), event.text);
    case Event::What::message:
    case Event::What::sent: break;
  }
  const schema::MessageType& message = protocol.messages[event.kind];
  line += fmt::format("{}  {}{:<8}  {}", event.what == Event::What::sent ? "sent" : "got ", who(),
                      protocol.channels[message.channel].name, message.name);
  const std::string fields = json::line_text(protocol, message.fields, event.value);
  return fields.empty() ? line : line + " " + fields;
}

std::string event_json(const schema::Protocol& protocol, const Event& event, Time start) {
  static constexpr const char* kNames[] = {"connected", "received", "sent", "gone",
                                           "problem",   "broken",   "back"};
  nlohmann::ordered_json made{{"time", seconds(event, start)},
                              {"event", kNames[static_cast<std::size_t>(event.what)]}};
  if (event.peer != 0) made["peer"] = event.peer;
  if (event.what == Event::What::message || event.what == Event::What::sent) {
    const schema::MessageType& message = protocol.messages[event.kind];
    made["channel"] = protocol.channels[message.channel].name;
    made["type"] = message.name;
    if (event.request_id != 0) made["request_id"] = event.request_id;
    made["fields"] = json::to_json(protocol, message.fields, event.value);
  } else {
    if (event.code != Errc::none) made["cause"] = error_info(event.code).name;
    if (!event.text.empty()) made["text"] = event.text;
  }
  return json::text_of(made);
}

}  // namespace kwind::talk
