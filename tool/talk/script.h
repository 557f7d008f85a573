// A script of a conversation: what to send, what to expect, how long to wait. One step a line:
//
//   send Hail words="ahoy" tone=plain       to 2 Notice words=yes
//   expect Notice words=yes count>=1 within 2s
//   expect no Departure within 500ms        expect here      expect lost, back, gone
//   reply line=2                            refuse too_far come closer
//   wait 300ms                              close            # a remark
//
// `expect` looks at what came on the message's channel since the last message there that an
// `expect` was content with, in order: channels do not wait for each other.
#pragma once
#include <deque>
#include <optional>
#include <string>
#include <vector>

#include "kwind/json/line.h"
#include "talk/end.h"

namespace kwind::talk {

struct Step {
  enum class Do : std::uint8_t { send, expect, wait, reply, refuse, close };
  Do what = Do::wait;
  std::size_t line = 0;
  std::string text{};    ///< as it was written
  std::uint32_t to = 0;  ///< send
  json::Line message{};  ///< send
  Event::What awaited = Event::What::message;
  std::size_t kind = 0;  ///< expect a message
  bool none = false;     ///< expect that it does not come
  std::vector<json::Condition> conditions{};
  Duration time = std::chrono::seconds(5);
  std::string rest{};  ///< reply, refuse
};

/// All steps, or every problem as "script.txt:4: ...".
std::vector<Step> parse_script(const schema::Protocol& protocol, const std::string& name,
                               const std::string& text, std::vector<std::string>& problems);

/// Runs the steps: give it every event, and call step() after each round.
class ScriptRun {
 public:
  ScriptRun(End& end, const schema::Protocol& protocol, std::vector<Step> steps)
      : end_(end), protocol_(protocol), steps_(std::move(steps)) {}
  void note(const Event& event);
  /// Does what can be done now.
  void step(Time now);
  [[nodiscard]] Time next_wakeup() const;
  [[nodiscard]] bool done() const { return next_ == steps_.size(); }
  /// What failed: "line 4: ...", with what came instead; empty while nothing has.
  [[nodiscard]] const std::string& failure() const { return failure_; }

 private:
  [[nodiscard]] bool fits(const Step& step, const Event& event) const;
  [[nodiscard]] bool on_one_channel(const Event& a, const Event& b) const;
  [[nodiscard]] std::string shown(const Event& event) const;
  bool expect(const Step& step, Time now);
  void fail(const Step& step, const std::string& why);

  End& end_;
  const schema::Protocol& protocol_;
  std::vector<Step> steps_;
  std::size_t next_ = 0;
  std::optional<Time> since_;  // when the present step began
  std::deque<Event> seen_;     // not yet expected
  std::string failure_;
};

}  // namespace kwind::talk
