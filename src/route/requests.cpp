// Open requests of one connection, in a list: there are at most some dozens. Each is settled
// exactly once: by its answer, its deadline, or the end of the connection. It leaves the list
// before its callback is called, which may ask again.
#include "kwind/route/requests.h"

#include <algorithm>

#include "kwind/core/assert.h"

#include "kwind/schema/message_type_codes.h"

namespace kwind::route {

// Numbers go round after 65,535, and skip 0 and those that are open: the answer to an old request
// must not settle a new one.
std::uint16_t PendingRequests::next_number() const {
  KWIND_ASSERT(!full());
  std::uint16_t number = last_;
  do {
    ++number;
  } while (number == 0 || std::any_of(open_.begin(), open_.end(),
                                      [&](const Open& open) { return open.number == number; }));
  return number;
}

void PendingRequests::add(std::uint16_t number, std::uint16_t reply_type, Time deadline,
                          Settle settle) {
  last_ = number;
  open_.push_back({number, reply_type, deadline, std::move(settle)});
  deadline_ = std::min(deadline_, deadline);
}

// Number 0 means that the other end dropped the request unanswered; the number of the request
// follows. An answer that does not decode leaves the request open.
Errc PendingRequests::answer(std::uint16_t number, std::uint16_t type, const bits::Reader& fields,
                             schema::Layout& layout) {
  const bool abandoned = number == 0;
  if (abandoned) {
    bits::Reader in = fields;
    number = static_cast<std::uint16_t>(in.get(schema::kRequestIdBits));
    if (!in.ok()) return Errc::truncated;
    if (in.left_bits() > 0) return Errc::trailing_bits;
  }
  const auto found = std::find_if(open_.begin(), open_.end(), [&](const Open& open) {
    return open.number == number && open.reply_type == type;
  });
  if (found == open_.end()) return Errc::stray_answer;
  // Out of the list first: the callback may ask again.
  Open open = std::move(*found);
  open_.erase(found);
  note_deadline();
  if (abandoned) return open.settle(Ending::abandoned, Errc::request_abandoned, nullptr, nullptr);
  const Errc error = open.settle(Ending::replied, Errc::none, &fields, &layout);
  if (error != Errc::none) {  // it still waits
    deadline_ = std::min(deadline_, open.deadline);
    open_.push_back(std::move(open));
  }
  return error;
}

// One search costs O(open), but only when a deadline has passed.
void PendingRequests::expire(Time now) {
  while (now >= deadline_) {
    const auto late = std::find_if(open_.begin(), open_.end(),
                                   [&](const Open& open) { return now >= open.deadline; });
    if (late == open_.end()) break;
    const Settle settle = std::move(late->settle);
    open_.erase(late);
    note_deadline();
    (void)settle(Ending::timed_out, Errc::request_timeout, nullptr, nullptr);
  }
}

// A callback that sends another request finds the connection closed, so the list does end.
void PendingRequests::end_all() {
  while (!open_.empty()) {
    const Settle settle = std::move(open_.front().settle);
    open_.erase(open_.begin());
    note_deadline();
    (void)settle(Ending::disconnected, Errc::closed, nullptr, nullptr);
  }
}

void PendingRequests::note_deadline() {
  deadline_ = kNever;
  for (const Open& open : open_) deadline_ = std::min(deadline_, open.deadline);
}

}  // namespace kwind::route
