// Events and requests, by descriptions that are known when the program runs.
//
// The core of both ends: events wait in a queue of bounded length; values are interpreted with the
// run-time codec (schema/runtime.cpp), since a C program may load a description that no compiler
// has seen.
#include "c/host.h"

#include <algorithm>
#include <cstring>

namespace kwind::c {

// One value for all events, made once: it becomes the type of each event.
EventQueue::EventQueue(const std::shared_ptr<ProtocolObject>& protocol) {
  const schema::Protocol& all = protocol->protocol;
  // Any type will do: next_event() makes it one of the event's.
  if (all.messages.empty() && all.entities.empty()) return;
  value_ = std::make_shared<ValueObject>(
      protocol, all.messages.empty() ? entity_type(all, 0) : message_type(all, 0));
  value_->is_of_event = true;
  value_handle_ = add_object(value_);
}
EventQueue::~EventQueue() {
  // The handle is invalid from here on; a caller that still has it gets an error code.
  remove_object(value_handle_);
}

// Fills the caller's event; its texts and value stay valid until the next event or step.
kwind_result EventQueue::pop(kwind_event* out) {
  if (const auto result = check_size(out, sizeof(kwind_event), sizeof(kwind_event));
      result != KWIND_OK) {
    return result;
  }
  // The event that was shown before ends with this call, and its texts with it.
  if (waiting_.empty()) return fail(KWIND_E_EMPTY, "no event waits");
  shown_ = std::move(waiting_.front());
  waiting_.pop_front();
  out->event = shown_.event;
  out->peer = shown_.peer;
  out->tick = shown_.tick;
  out->request = shown_.request;
  out->entity = {shown_.entity.id, shown_.entity.generation};
  out->result = static_cast<kwind_result>(shown_.error);
  out->outcome = shown_.outcome;
  out->type = shown_.type ? shown_.type->name->c_str() : nullptr;
  out->value = nullptr;
  out->text = shown_.more == nullptr ? "" : shown_.more->text.c_str();
  out->words = shown_.more == nullptr ? "" : shown_.more->words.c_str();
  if (shown_.more != nullptr && shown_.more->has_value) {
    // One value object serves all events: its handle stays valid, its content is that of the newest
    // event.
    value_->type = *shown_.type;
    value_->value = std::move(shown_.more->value);
    out->value = handle_of<kwind_value>(value_handle_);
  }
  return KWIND_OK;
}

// Decodes with the run-time codec, which needs no generated code.
Errc decode(const schema::Protocol& protocol, const TypeName& type, const bits::Reader& fields,
            schema::Layout& layout, schema::Value& out) {
  schema::Decoder in(fields, layout.version, layout.newest_tick);
  // References to entities that the receiver does not have become none.
  in.know(layout.known);
  // Fields that the sender's version lacks keep their initial values.
  out = schema::initial_value(protocol, *type.fields);
  schema::decode_value(protocol, *type.fields, in, out);
  if (in.error() != Errc::none) return in.error();
  if (in.left_bits() > 0) return Errc::trailing_bits;
  layout.newest_tick = in.newest_tick();
  layout.emptied_refs += in.emptied_refs();
  return Errc::none;
}

// Type and role are checked by name and by protocol: values of another protocol are refused.
kwind_result Messages::check(const ValueObject& value, schema::MessageRole role) const {
  // Two protocols may have types of one name and of different fields.
  if (value.protocol != protocol_) {
    return fail(KWIND_E_TYPE, fmt::format("the {} is of another kwind_protocol", *value.type.name));
  }
  const char* const wanted = role == schema::MessageRole::request ? "request" : "message";
  if (value.type.role != Role::message) {
    return fail(KWIND_E_TYPE, fmt::format("{} is no {}", *value.type.name, wanted));
  }
  // An index into the messages of one protocol.
  const schema::MessageType& type = description().messages[value.type.index];
  if (type.role != role) {
    return fail(KWIND_E_TYPE, fmt::format("{} is no {}", type.name, wanted));
  }
  if (type.direction != schema::Direction::both && type.direction != direction_) {
    return fail(KWIND_E_TYPE,
                fmt::format("{} travels {} only", type.name, name_of(type.direction)));
  }
  return KWIND_OK;
}

// A message becomes an event with its value.
Errc Messages::take(std::uint32_t peer, const route::RawMessage& message, schema::Layout& layout,
                    bool is_input) {
  // The type and its name live as long as the protocol.
  QueuedEvent event;
  event.type = message_type(description(), message.info.type);
  const Errc error =
      decode(description(), *event.type, message.fields, layout, event.content().value);
  if (error != Errc::none) return error;
  event.event = is_input ? KWIND_EVENT_INPUT : KWIND_EVENT_MESSAGE;
  event.peer = peer;
  event.content().has_value = true;
  if (message.info.role == schema::MessageRole::request) {
    event.event = KWIND_EVENT_REQUEST;
    event.request = next_request();
    // The number that C sees is the library's own: numbers of the wire repeat among clients.
    // Kept until it is answered, refused, or its connection ends.
    open_[event.request] = {peer, message.request_id, message.info.type};
  }
  events_.push(std::move(event));
  return Errc::none;
}

// Each outcome of a request becomes one event.
route::PendingRequests::Settle Messages::settle(std::uint64_t request, std::uint32_t peer,
                                                std::size_t type) {
  return [this, request, peer, type](route::Ending ending, Errc error, const bits::Reader* fields,
                                     schema::Layout* layout) {
    QueuedEvent event;
    event.event = KWIND_EVENT_OUTCOME;
    event.request = request;
    event.peer = peer;
    event.error = error;
    event.type = message_type(description(), type);
    switch (ending) {
      case route::Ending::timed_out: event.outcome = KWIND_OUTCOME_TIMED_OUT; break;
      case route::Ending::abandoned: event.outcome = KWIND_OUTCOME_ABANDONED; break;
      default: event.outcome = KWIND_OUTCOME_DISCONNECTED; break;
    }
    if (fields != nullptr) {
      // The answer is the message type behind its request; its first case is the reply, its second
      // the refusal.
      schema::Value answer;
      const Errc wrong =
          decode(description(), message_type(description(), type + 1), *fields, *layout, answer);
      if (wrong != Errc::none) return wrong;
      const schema::Options& cases = cases_of(type);
      schema::Value& outcome = answer.items.front();
      const auto place = static_cast<std::size_t>(outcome.whole);
      const std::size_t record = cases.options[place].type.front().index;
      if (place == 0) {
        event.outcome = KWIND_OUTCOME_REPLIED;
        event.type = record_type(description(), record);
        event.content().has_value = true;
        event.content().value = std::move(outcome.items.front());
      } else {
        const schema::Record& refused = description().records[record];
        const schema::Options& reasons = description().enums[refused.fields[0].type.index];
        const schema::Value& said = outcome.items.front();
        event.outcome = KWIND_OUTCOME_REFUSED;
        event.content().text = reasons.options[static_cast<std::size_t>(said.items[0].whole)].name;
        event.content().words = said.items[1].text;
      }
    }
    events_.push(std::move(event));
    return Errc::none;
  };
}

void Messages::forget(std::uint32_t peer) {
  // Requests that a dead connection has made cannot be answered any more.
  std::erase_if(open_, [&](const auto& entry) { return entry.second.peer == peer; });
}

const schema::Options& Messages::cases_of(std::size_t request_type) const {
  const schema::MessageType& answer = description().messages[request_type + 1];
  return description().one_ofs[answer.fields.front().type.index];
}

// A reply is the record that the description declares for it.
kwind_result Messages::reply_value(const OpenRequest& open, const ValueObject& value,
                                   schema::Value& answer) const {
  const std::size_t record = cases_of(open.type).options[0].type.front().index;
  if (value.protocol != protocol_ || !(value.type == record_type(description(), record))) {
    return fail(KWIND_E_TYPE, fmt::format("the reply to a {} is a {}, not a {}",
                                          description().messages[open.type].name,
                                          description().records[record].name, *value.type.name));
  }
  answer.items.resize(1);
  answer.items[0].items.push_back(value.value);
  return KWIND_OK;
}

// A reason is named as the description spells it.
kwind_result Messages::refusal_value(const OpenRequest& open, const char* reason, const char* words,
                                     schema::Value& answer) const {
  const std::string& name = description().messages[open.type].name;
  const schema::Options& cases = cases_of(open.type);
  if (reason == nullptr) return fail(KWIND_E_ARGUMENT, "the reason is NULL");
  if (cases.options.size() < 2) {
    return fail(KWIND_E_NAME, fmt::format("the description has no refusal of {}", name));
  }
  const schema::Record& refused = description().records[cases.options[1].type.front().index];
  const schema::Options& reasons = description().enums[refused.fields[0].type.index];
  const auto found = std::find_if(reasons.options.begin(), reasons.options.end(),
                                  [&](const schema::Option& each) { return each.name == reason; });
  if (found == reasons.options.end()) {
    return fail(KWIND_E_NAME, fmt::format("{} is not refused for `{}`", name, reason));
  }
  // A refusal has two fields: the reason, and words for people.
  schema::Value said = schema::initial_value(description(), refused.fields);
  said.items[0].whole = found - reasons.options.begin();
  if (words != nullptr) said.items[1].text = words;
  answer.items.resize(1);
  answer.items[0].whole = 1;
  answer.items[0].items.push_back(std::move(said));
  return KWIND_OK;
}

void add_traffic(const host::Traffic& traffic, const host::Counts& counts, kwind_stats& out) {
  out.datagrams_sent = traffic.datagrams_sent;
  out.datagrams_received = traffic.datagrams_received;
  out.bytes_sent = traffic.bytes_sent;
  out.bytes_received = traffic.bytes_received;
  out.packets_lost = traffic.packets_lost;
  out.dropped = counts.drops.total();
  out.values_out_of_range = counts.values_out_of_range;
}

}  // namespace kwind::c
