// What the tests of the C interface share: handles that free themselves, and a server and a client
// that meet over loopback.
#pragma once
#include <gtest/gtest.h>

#include <fstream>
#include <functional>
#include <iterator>
#include <string>
#include <vector>

#include "kwind/c/kwind.h"

namespace kwind::c_test {

inline std::string text_of(const std::string& path) {
  std::ifstream in(path);
  return {std::istreambuf_iterator<char>(in), {}};
}

/// A description of the tree, by its path from the root.
inline kwind_protocol* compile(const std::string& path) {
  const std::string text = text_of(std::string(KWIND_SOURCE_DIR "/") + path);
  const kwind_source source{"quay.kw", text.c_str()};
  kwind_protocol* made = nullptr;
  EXPECT_EQ(kwind_protocol_compile(&source, 1, &made), KWIND_OK) << kwind_last_error();
  return made;
}

class Value {
 public:
  Value(kwind_protocol* protocol, const char* type) {
    EXPECT_EQ(kwind_value_new(protocol, type, &value_), KWIND_OK) << kwind_last_error();
  }
  Value(const Value&) = delete;
  Value& operator=(const Value&) = delete;
  ~Value() { kwind_value_free(value_); }
  operator kwind_value*() const { return value_; }  // NOLINT: it is one

  Value& set(const char* path, int number) {
    EXPECT_EQ(kwind_value_set_int(value_, path, number), KWIND_OK) << kwind_last_error();
    return *this;
  }
  Value& set(const char* path, double number) {
    EXPECT_EQ(kwind_value_set_real(value_, path, number), KWIND_OK) << kwind_last_error();
    return *this;
  }
  Value& set(const char* path, const std::string& text) {
    EXPECT_EQ(kwind_value_set_text(value_, path, text.data(), text.size()), KWIND_OK)
        << kwind_last_error();
    return *this;
  }

 private:
  kwind_value* value_ = nullptr;
};

inline std::int64_t get_int(const kwind_value* value, const char* path) {
  std::int64_t out = -1;
  EXPECT_EQ(kwind_value_get_int(value, path, &out), KWIND_OK) << kwind_last_error();
  return out;
}
inline double get_real(const kwind_value* value, const char* path) {
  double out = -1;
  EXPECT_EQ(kwind_value_get_real(value, path, &out), KWIND_OK) << kwind_last_error();
  return out;
}
inline std::string get_text(const kwind_value* value, const char* path) {
  const char* bytes = nullptr;
  std::size_t size = 0;
  EXPECT_EQ(kwind_value_get_text(value, path, &bytes, &size), KWIND_OK) << kwind_last_error();
  return bytes == nullptr ? "" : std::string(bytes, size);
}

/// An event that the test keeps: what of it would live no longer is copied.
struct Seen {
  kwind_event event;
  std::string type;
  std::string text;
  std::string words;
  std::string value_text;   // of "words", where there is such a field
  std::int64_t number = 0;  // of "number", "throttle", "until" or "barge"
};

/// A server and clients that are stepped in turn until something is true.
class Quay : public ::testing::Test {
 protected:
  Quay() : protocol(compile("tests/c/quay.kw")) {}
  ~Quay() override {
    for (kwind_client* client : clients) kwind_client_free(client);
    kwind_server_free(server);
    kwind_protocol_free(protocol);
  }

  void serve(std::uint32_t tick_rate = 0, const char* input = nullptr) {
    const char* const listen[] = {"127.0.0.1:0"};
    kwind_server_options options = KWIND_SERVER_OPTIONS_INIT;
    options.listen = listen;
    options.listen_count = 1;
    options.tick_rate = tick_rate;
    options.input = input;
    options.resume_seconds = 10;
    ASSERT_EQ(kwind_server_open(protocol, &options, &server), KWIND_OK) << kwind_last_error();
  }
  kwind_client* join(std::uint32_t tick_rate = 0) {
    const char* address = nullptr;
    const char* key = nullptr;
    EXPECT_EQ(kwind_server_address(server, 0, &address), KWIND_OK);
    EXPECT_EQ(kwind_server_public_key(server, &key), KWIND_OK);
    kwind_client_options options = KWIND_CLIENT_OPTIONS_INIT;
    options.server = address;
    options.server_key = key;
    options.tick_rate = tick_rate;
    kwind_client* client = nullptr;
    EXPECT_EQ(kwind_client_open(protocol, &options, &client), KWIND_OK) << kwind_last_error();
    clients.push_back(client);
    client_events.emplace_back();
    const std::size_t before = count(server_events, KWIND_EVENT_CONNECTED);
    EXPECT_TRUE(until([&] {
      return kwind_client_connected(client) == 1 &&
             count(server_events, KWIND_EVENT_CONNECTED) > before;
    }));
    return client;
  }

  static std::size_t count(const std::vector<Seen>& events, kwind_event_type type) {
    std::size_t found = 0;
    for (const Seen& each : events) found += each.event.event == type ? 1U : 0U;
    return found;
  }
  static const Seen* last(const std::vector<Seen>& events, kwind_event_type type) {
    for (auto each = events.rbegin(); each != events.rend(); ++each) {
      if (each->event.event == type) return &*each;
    }
    return nullptr;
  }

  static std::size_t count_of_entities(kwind_client* client) {
    std::size_t count = 0;
    EXPECT_EQ(kwind_client_entities(client, nullptr, 0, &count), KWIND_OK);
    return count;
  }

  /// Steps all until `done`, for five seconds at most.
  bool until(const std::function<bool()>& done) {
    for (int round = 0; round < 2500; ++round) {
      step();
      if (done()) return true;
    }
    return false;
  }
  void step() {
    EXPECT_EQ(kwind_server_step(server, 1), KWIND_OK) << kwind_last_error();
    take([&](kwind_event* event) { return kwind_server_next_event(server, event); }, server_events,
         true);
    for (std::size_t i = 0; i < clients.size(); ++i) {
      EXPECT_EQ(kwind_client_step(clients[i], 1), KWIND_OK) << kwind_last_error();
      take([&](kwind_event* event) { return kwind_client_next_event(clients[i], event); },
           client_events[i], false);
    }
  }

  kwind_protocol* protocol;
  kwind_server* server = nullptr;
  std::vector<kwind_client*> clients;
  std::vector<Seen> server_events;
  std::vector<std::vector<Seen>> client_events;
  std::function<void(const kwind_event&)> on_server_event;

 private:
  template <class Next>
  void take(const Next& next, std::vector<Seen>& into, bool of_server) {
    kwind_event event = KWIND_EVENT_INIT;
    while (next(&event) == KWIND_OK) {
      Seen seen{event, event.type == nullptr ? "" : event.type, event.text, event.words, {}, 0};
      if (event.value != nullptr) {
        EXPECT_STREQ(kwind_value_type(event.value), event.type);
        const char* bytes = nullptr;
        if (kwind_value_get_text(event.value, "words", &bytes, nullptr) == KWIND_OK) {
          seen.value_text = bytes;
        }
        for (const char* const name : {"number", "throttle", "until", "barge"}) {
          (void)kwind_value_get_int(event.value, name, &seen.number);
        }
      }
      into.push_back(seen);
      if (of_server && on_server_event) on_server_event(event);
    }
  }
};

}  // namespace kwind::c_test
