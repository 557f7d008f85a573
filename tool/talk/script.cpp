// Reads scripts of `kwind talk`, one step a line; a problem is reported with its line.
#include "talk/script.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <map>

#include "kwind/bits/nearest.h"

namespace kwind::talk {
namespace {

constexpr std::size_t kMaxSeen = 100000;

// Words of `expect` that are not names of messages.
const std::map<std::string_view, Event::What>& awaited_events() {
  static const std::map<std::string_view, Event::What> all = {{"here", Event::What::connected},
                                                              {"lost", Event::What::broken},
                                                              {"back", Event::What::back},
                                                              {"gone", Event::What::gone}};
  return all;
}
std::string_view name_of(Event::What what) {
  for (const auto& [name, each] : awaited_events()) {
    if (each == what) return name;
  }
  return "something else";
}

// "500ms", "2s", "0.5s".
std::optional<Duration> parse_time(std::string_view text) {
  double number = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), number);
  const std::string_view unit = text.substr(static_cast<std::size_t>(end - text.data()));
  if (error != std::errc() || !(number >= 0 && number <= 86400000)) return std::nullopt;
  if (unit == "ms") return Duration(static_cast<Duration::rep>(number * 1e6));
  if (unit == "s") return Duration(static_cast<Duration::rep>(number * 1e9));
  return std::nullopt;
}

constexpr const char* kTimeHint = "is no time; write 500ms or 2s";

// Reads one line; throws what is wrong with it.
class StepReader {
 public:
  StepReader(const schema::Protocol& protocol, std::string_view text)
      : protocol_(protocol), text_(text), words_(json::words_of(text)) {}

  // The first word chooses the step; an unknown one gets the nearest known word as a hint.
  Step read() {
    Step step;
    const std::string first(words_[0]);
    if (first == "send") {
      message(step, 1);
    } else if (first == "to") {
      if (words_.size() < 3) throw std::string("write `to PEER MESSAGE FIELDS`");
      step.to = peer(words_[1]);
      message(step, 2);
    } else if (first == "expect") {
      expect(step);
    } else if (first == "wait") {
      step.what = Step::Do::wait;
      if (words_.size() != 2) throw std::string("write `wait 500ms`");
      step.time = time(words_[1]);
    } else if (first == "reply" || first == "refuse") {
      step.what = first == "reply" ? Step::Do::reply : Step::Do::refuse;
      step.rest = words_.size() > 1 ? from(1) : "";
    } else if (first == "close") {
      step.what = Step::Do::close;
    } else {
      static const std::vector<std::string> kKnown = {"send",  "to",     "expect", "wait",
                                                      "reply", "refuse", "close"};
      const std::string near = bits::nearest(first, kKnown);
      throw near.empty()
          ? fmt::format("{} is no step; there are {}", json::shown(first), fmt::join(kKnown, ", "))
          : fmt::format("{} is no step; did you mean `{}`?", json::shown(first), near);
    }
    return step;
  }

 private:
  // The rest of the line, from a word on, as it was written.
  [[nodiscard]] std::string from(std::size_t word) const {
    return std::string(text_.substr(static_cast<std::size_t>(words_[word].data() - text_.data())));
  }
  // Peers count from 1.
  static std::uint32_t peer(std::string_view word) {
    std::uint32_t number = 0;
    const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), number);
    if (error != std::errc() || end != word.data() + word.size() || number == 0) {
      throw fmt::format("{} is no number of a peer", json::shown(word));
    }
    return number;
  }
  static Duration time(std::string_view word) {
    const auto found = parse_time(word);
    if (!found) throw fmt::format("{} {}", json::shown(word), kTimeHint);
    return *found;
  }
  // The message is parsed now: a wrong field is an error of the script, not of the run.
  void message(Step& step, std::size_t word) {
    step.what = Step::Do::send;
    if (words_.size() <= word) throw std::string("write what to send: `send MESSAGE FIELDS`");
    auto line = json::parse_line(protocol_, from(word));
    if (!line) throw line.error();
    step.message = std::move(*line);
  }
  // expect [no] WHAT [FIELD=VALUE...] [within TIME]
  void expect(Step& step) {
    step.what = Step::Do::expect;
    std::size_t at = 1;
    if (at < words_.size() && words_[at] == "no") {
      step.none = true;
      ++at;
    }
    if (at == words_.size())
      throw std::string("write what to expect: a message, `here`, `lost`, `back` or `gone`");
    const auto awaited = awaited_events().find(words_[at]);
    if (awaited != awaited_events().end()) {
      step.awaited = awaited->second;
    } else {
      const auto kind = json::find_type(protocol_, words_[at]);
      if (!kind) throw kind.error();
      step.kind = *kind;
    }
    for (++at; at < words_.size(); ++at) {
      if (words_[at] == "within") {
        if (at + 2 != words_.size()) throw std::string("`within 2s` stands at the end");
        step.time = time(words_[at + 1]);
        return;
      }
      auto condition = json::parse_condition(words_[at]);
      if (!condition) throw condition.error();
      const std::string name = condition->path.substr(0, condition->path.find_first_of(".["));
      std::vector<std::string> known;
      if (step.awaited == Event::What::message) {
        for (const auto& field : protocol_.messages[step.kind].fields) known.push_back(field.name);
      }
      if (std::find(known.begin(), known.end(), name) == known.end()) {
        const std::string near = bits::nearest(name, known);
        throw near.empty()
            ? fmt::format("there is no field {} in it", json::shown(name))
            : fmt::format("there is no field {} in it; did you mean {}?", json::shown(name), near);
      }
      step.conditions.push_back(std::move(*condition));
    }
  }

  const schema::Protocol& protocol_;
  std::string_view text_;
  std::vector<std::string_view> words_;
};

}  // namespace

// All lines are read, so that all problems are reported at once. `#` begins a remark where a word
// may begin.
std::vector<Step> parse_script(const schema::Protocol& protocol, const std::string& name,
                               const std::string& text, std::vector<std::string>& problems) {
  std::vector<Step> steps;
  std::size_t number = 0;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find('\n', at), text.size());
    std::string line = text.substr(at, end - at);
    at = end + 1;
    ++number;
    const auto words = json::words_of(line);
    const auto remark = std::find_if(words.begin(), words.end(),
                                     [](std::string_view word) { return word.starts_with('#'); });
    if (remark != words.end()) {
      line.resize(static_cast<std::size_t>(remark->data() - line.data()));
    }
    while (!line.empty() && std::isspace(static_cast<unsigned char>(line.back())) != 0) {
      line.pop_back();
    }
    if (json::words_of(line).empty()) continue;
    try {
      Step step = StepReader(protocol, line).read();
      step.line = number;
      step.text = line;
      steps.push_back(std::move(step));
    } catch (const std::string& problem) {
      problems.push_back(fmt::format("{}:{}: {}", name, number, problem));
    }
  }
  return steps;
}

// Own messages are not awaited. The list is bounded: a script that awaits nothing keeps the newest.
void ScriptRun::note(const Event& event) {
  if (event.what == Event::What::sent) return;
  seen_.push_back(event);
  if (seen_.size() > kMaxSeen) seen_.pop_front();
}

// Runs steps until one has to wait.
void ScriptRun::step(Time now) {
  while (!done() && failure_.empty()) {
    const Step& step = steps_[next_];
    if (!since_) since_ = now;
    std::string why;
    switch (step.what) {
      case Step::Do::send: why = end_.say(step.to, step.message.kind, step.message.value); break;
      case Step::Do::reply: why = end_.reply(step.rest); break;
      case Step::Do::refuse: why = end_.refuse(step.rest); break;
      case Step::Do::close: end_.close_all("the script says so"); break;
      case Step::Do::wait:
        if (now < *since_ + step.time) return;
        break;
      case Step::Do::expect:
        if (!expect(step, now)) return;
        break;
    }
    if (!why.empty()) fail(step, why);
    ++next_;
    since_.reset();
  }
}

// A message fits if its type does and all conditions on its fields hold.
bool ScriptRun::fits(const Step& step, const Event& event) const {
  if (event.what != step.awaited) return false;
  if (step.awaited != Event::What::message) return true;
  if (event.kind != step.kind) return false;
  const auto fields = json::to_json(protocol_, protocol_.messages[event.kind].fields, event.value);
  return std::all_of(step.conditions.begin(), step.conditions.end(),
                     [&](const auto& condition) { return json::holds(condition, fields); });
}

// Messages of one channel are ordered among themselves, and so are the events of a connection.
bool ScriptRun::on_one_channel(const Event& a, const Event& b) const {
  const bool messages = a.what == Event::What::message && b.what == Event::What::message;
  if (!messages) return (a.what == Event::What::message) == (b.what == Event::What::message);
  return protocol_.messages[a.kind].channel == protocol_.messages[b.kind].channel;
}

// Only messages have values.
std::string ScriptRun::shown(const Event& event) const {
  if (event.what != Event::What::message) {
    return std::string(name_of(event.what)) + (event.text.empty() ? "" : ", " + event.text);
  }
  const schema::MessageType& message = protocol_.messages[event.kind];
  return fmt::format("{} {}", message.name,
                     json::line_text(protocol_, message.fields, event.value));
}

// Returns whether the step is over. What was awaited is consumed with everything of its channel
// that came before it, so that the next `expect` looks further on. On failure the last message of
// the wanted type is shown, else the last event.
bool ScriptRun::expect(const Step& step, Time now) {
  const auto found = std::find_if(seen_.begin(), seen_.end(),
                                  [&](const Event& event) { return fits(step, event); });
  const bool late = now >= *since_ + step.time;
  if (step.none) {
    if (found != seen_.end()) {
      fail(step, "it came: " + shown(*found));
    }
    return late || !failure_.empty();
  }
  if (found != seen_.end()) {
    const Event wanted{.what = found->what, .kind = found->kind};
    seen_.erase(std::remove_if(seen_.begin(), found + 1,
                               [&](const Event& event) { return on_one_channel(event, wanted); }),
                found + 1);
    return true;
  }
  if (!late) return false;
  std::string instead = "nothing came";
  const auto near = std::find_if(seen_.rbegin(), seen_.rend(), [&](const Event& event) {
    return event.what == Event::What::message && event.kind == step.kind;
  });
  const auto& last = near == seen_.rend() ? seen_.rbegin() : near;
  if (last != seen_.rend()) {
    const bool is_message = last->what == Event::What::message;
    instead = (is_message ? "the last that came: " : "the last that happened: ") + shown(*last);
  }
  fail(step, fmt::format("not within {} s; {}", std::chrono::duration<double>(step.time).count(),
                         instead));
  return true;
}

// The first failure ends the run.
void ScriptRun::fail(const Step& step, const std::string& why) {
  failure_ = fmt::format("line {}: {}: {}", step.line, step.text, why);
}

// A step with a time limit is looked at when that is over, any other at once.
Time ScriptRun::next_wakeup() const {
  if (done() || !since_) return kNever;
  const Step& step = steps_[next_];
  const bool timed = step.what == Step::Do::wait || step.what == Step::Do::expect;
  return timed ? *since_ + step.time : Time::min();
}

}  // namespace kwind::talk
