// What happens at an end of a connection as one line of text, or as one JSON object.
#pragma once
#include <nlohmann/json_fwd.hpp>
#include <string>

#include "talk/end.h"

namespace kwind::talk {

/// "   1.204  in      office  Hail  words=ahoy tone=plain": seconds since `start`, with `peers` the
/// number of the peer, the channel, the kind, its fields.
std::string event_line(const schema::Protocol& protocol, const Event& event, Time start,
                       bool peers);
/// {"time":1.204,"event":"received","peer":2,"channel":"office","type":"Hail","fields":{...}}
std::string event_json(const schema::Protocol& protocol, const Event& event, Time start);

}  // namespace kwind::talk
