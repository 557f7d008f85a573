// Mistakes of a C program: each gives a result and a sentence, and none a crash.
#include <cstring>
#include <random>
#include <thread>

#include "c/kit.h"

namespace kwind::c_test {
namespace misuse_test {

using Misuse = Quay;

TEST(MisuseOfHandles, NullIsSaid) {
  kwind_value* value = nullptr;
  std::int64_t number = 0;
  kwind_event event = KWIND_EVENT_INIT;
  EXPECT_EQ(kwind_value_new(nullptr, "Hail", &value), KWIND_E_HANDLE);
  EXPECT_STREQ(kwind_last_error(), "the protocol handle is NULL");
  EXPECT_EQ(kwind_value_get_int(nullptr, "a", &number), KWIND_E_HANDLE);
  EXPECT_EQ(kwind_server_step(nullptr, 0), KWIND_E_HANDLE);
  EXPECT_EQ(kwind_server_wake(nullptr), KWIND_E_HANDLE);
  EXPECT_EQ(kwind_client_next_event(nullptr, &event), KWIND_E_HANDLE);
  EXPECT_EQ(kwind_client_connected(nullptr), 0);
  EXPECT_STREQ(kwind_value_type(nullptr), "");
  EXPECT_STREQ(kwind_protocol_name(nullptr), "");
  kwind_value_free(nullptr);
  kwind_server_free(nullptr);
  kwind_client_free(nullptr);
  kwind_protocol_free(nullptr);
  EXPECT_EQ(kwind_protocol_compile(nullptr, 1, nullptr), KWIND_E_ARGUMENT);
}

TEST_F(Misuse, FreedHandlesAndHandlesOfOtherTypesAreFoundOut) {
  kwind_value* value = nullptr;
  ASSERT_EQ(kwind_value_new(protocol, "Hail", &value), KWIND_OK);
  kwind_value_free(value);
  EXPECT_EQ(kwind_value_set_int(value, "cargo", 1), KWIND_E_HANDLE);
  EXPECT_STREQ(kwind_last_error(), "the value handle was freed, or never was one");
  kwind_value_free(value);
  kwind_value* again = nullptr;
  ASSERT_EQ(kwind_value_new(protocol, "Hail", &again), KWIND_OK);
  EXPECT_NE(again, value) << "a handle's number is not used again";
  EXPECT_EQ(kwind_client_step(reinterpret_cast<kwind_client*>(again), 0), KWIND_E_HANDLE);
  EXPECT_STREQ(kwind_last_error(), "a value handle is given where a client handle is wanted");
  kwind_value_free(again);

  serve();
  kwind_server* const gone = server;
  kwind_server_free(server);
  EXPECT_EQ(kwind_server_step(gone, 0), KWIND_E_HANDLE);
  EXPECT_EQ(kwind_server_wake(gone), KWIND_E_HANDLE);
  serve();
}

TEST_F(Misuse, ProtocolOutlivesItsHandle) {
  serve();
  kwind_protocol* const first = protocol;
  protocol = compile("tests/c/quay.kw");
  kwind_protocol_free(first);
  Value hail(protocol, "Hail");
  EXPECT_EQ(kwind_server_send_all(server, 0, hail, nullptr), KWIND_E_TYPE);
  EXPECT_STREQ(kwind_last_error(), "the Hail is of another kwind_protocol");
  EXPECT_EQ(kwind_server_step(server, 0), KWIND_OK);
}

TEST_F(Misuse, StructsOfOtherSizes) {
  kwind_server_options options = KWIND_SERVER_OPTIONS_INIT;
  options.size = 0;
  EXPECT_EQ(kwind_server_open(protocol, &options, &server), KWIND_E_SIZE);
  EXPECT_NE(std::strstr(kwind_last_error(), "set it to sizeof"), nullptr);
  // A later version of the struct: what this library does not know may only be 0.
  struct Later {
    kwind_server_options now;
    std::uint64_t more;
  } later{KWIND_SERVER_OPTIONS_INIT, 0};
  const char* const listen[] = {"127.0.0.1:0"};
  later.now.listen = listen;
  later.now.listen_count = 1;
  later.now.size = sizeof later;
  EXPECT_EQ(kwind_server_open(protocol, &later.now, &server), KWIND_OK) << kwind_last_error();
  later.more = 1;
  kwind_server* other = nullptr;
  EXPECT_EQ(kwind_server_open(protocol, &later.now, &other), KWIND_E_SIZE);
  later.now.size = 0xffffffff;
  EXPECT_EQ(kwind_server_open(protocol, &later.now, &other), KWIND_E_SIZE);
  kwind_event event = KWIND_EVENT_INIT;
  event.size = 4;
  EXPECT_EQ(kwind_server_next_event(server, &event), KWIND_E_SIZE);
  kwind_stats stats = KWIND_STATS_INIT;
  stats.size = 1;
  EXPECT_EQ(kwind_server_stats(server, &stats), KWIND_E_SIZE);
  EXPECT_EQ(kwind_server_stats(server, nullptr), KWIND_E_ARGUMENT);
}

TEST_F(Misuse, OptionsOutOfRange) {
  struct Wrong {
    const char* what;
    std::function<void(kwind_server_options&)> spoil;
    kwind_result result;
  };
  const char* const nowhere[] = {"nowhere"};
  const char* const none[] = {nullptr};
  const char* const everywhere[] = {"0.0.0.0:0"};
  for (const Wrong& each : {
           Wrong{"capacity", [](auto& o) { o.capacity = 70000; }, KWIND_E_ARGUMENT},
           {"tick_rate", [](auto& o) { o.tick_rate = 1000; }, KWIND_E_ARGUMENT},
           {"view", [](auto& o) { o.view_enter = -1; }, KWIND_E_ARGUMENT},
           {"view", [](auto& o) { o.view_leave = 0.0 / 0.0; }, KWIND_E_ARGUMENT},
           {"listen NULL", [](auto& o) { o.listen_count = 1; }, KWIND_E_ARGUMENT},
           {"an address NULL",
            [&](auto& o) {
              o.listen = none;
              o.listen_count = 1;
            },
            KWIND_E_ARGUMENT},
           {"address",
            [&](auto& o) {
              o.listen = nowhere;
              o.listen_count = 1;
            },
            static_cast<kwind_result>(51)},
           {"plaintext for all",
            [&](auto& o) {
              o.listen = everywhere;
              o.listen_count = 1;
              o.plaintext = 1;
            },
            static_cast<kwind_result>(18)},
           {"key file", [](auto& o) { o.secret_key_file = "/no/such/file"; },
            static_cast<kwind_result>(46)},
           {"input unknown",
            [](auto& o) {
              o.tick_rate = 20;
              o.input = "Submarine";
            },
            KWIND_E_NAME},
           {"input of the server",
            [](auto& o) {
              o.tick_rate = 20;
              o.input = "Notice";
            },
            KWIND_E_TYPE},
           {"input too large",
            [](auto& o) {
              o.tick_rate = 20;
              o.input = "Hail";
            },
            KWIND_E_TYPE},
           {"input without a world", [](auto& o) { o.input = "Helm"; }, KWIND_E_ARGUMENT},
       }) {
    kwind_server_options options = KWIND_SERVER_OPTIONS_INIT;
    each.spoil(options);
    kwind_server* made = nullptr;
    EXPECT_EQ(kwind_server_open(protocol, &options, &made), each.result)
        << each.what << ": " << kwind_last_error();
    EXPECT_EQ(made, nullptr);
    EXPECT_STRNE(kwind_last_error(), "") << each.what;
  }
  kwind_client_options options = KWIND_CLIENT_OPTIONS_INIT;
  kwind_client* client = nullptr;
  EXPECT_EQ(kwind_client_open(protocol, &options, &client), KWIND_E_ARGUMENT);
  options.server = "127.0.0.1:1";
  EXPECT_EQ(kwind_client_open(protocol, &options, &client), KWIND_E_ARGUMENT);
  options.server_key = "short";
  EXPECT_STREQ(kwind_result_name(kwind_client_open(protocol, &options, &client)), "bad_key");
  options.plaintext = 1;
  options.server = "192.0.2.1:1";
  EXPECT_STREQ(kwind_result_name(kwind_client_open(protocol, &options, &client)), "not_loopback");
}

TEST_F(Misuse, ValuesThatAreNoMessagesOfThisEnd) {
  serve();
  kwind_client* const client = join();
  Value notice(protocol, "Notice");
  Value hail(protocol, "Hail");
  Value mark(protocol, "Mark");
  Value ask(protocol, "TakeBerth");
  const std::uint32_t peer = last(server_events, KWIND_EVENT_CONNECTED)->event.peer;
  EXPECT_EQ(kwind_client_send(client, notice), KWIND_E_TYPE);
  EXPECT_STREQ(kwind_last_error(), "Notice travels server -> client only");
  EXPECT_EQ(kwind_server_send(server, peer, hail), KWIND_E_TYPE);
  EXPECT_EQ(kwind_client_send(client, mark), KWIND_E_TYPE);
  EXPECT_EQ(kwind_client_send(client, ask), KWIND_E_TYPE);
  EXPECT_EQ(kwind_client_request(client, hail, 100, nullptr), KWIND_E_TYPE);
  EXPECT_EQ(kwind_server_request(server, peer, ask, 100, nullptr), KWIND_E_TYPE);
  EXPECT_STREQ(kwind_result_name(kwind_server_send(server, 77, notice)), "no_such_peer");
  kwind_ref ref{};
  EXPECT_EQ(kwind_server_spawn(server, mark, &ref), KWIND_E_DESCRIPTION) << "no tick rate";
  EXPECT_EQ(kwind_client_entities(client, nullptr, 0, nullptr), KWIND_E_DESCRIPTION);
}

TEST_F(Misuse, WorldHasALimitAndTypes) {
  serve(50);
  kwind_client* const client = join(50);
  Value tug(protocol, "Tug");
  Value buoy(protocol, "Buoy");
  Value hail(protocol, "Hail");
  kwind_ref first{};
  kwind_ref other{};
  EXPECT_EQ(kwind_server_spawn(server, hail, &first), KWIND_E_TYPE);
  ASSERT_EQ(kwind_server_spawn(server, tug, &first), KWIND_OK);
  EXPECT_EQ(kwind_server_set(server, first, buoy), KWIND_E_TYPE);
  EXPECT_EQ(kwind_server_set(server, {59, 1}, tug), KWIND_E_NO_ENTITY);
  EXPECT_EQ(kwind_server_set(server, {0xffffffff, 200}, tug), KWIND_E_NO_ENTITY);
  EXPECT_EQ(kwind_server_despawn(server, {0, 0}), KWIND_E_NO_ENTITY);
  EXPECT_EQ(kwind_server_follow(server, 1, {59, 1}), KWIND_E_NO_ENTITY);
  EXPECT_EQ(kwind_server_put_in_room(server, {59, 1}, "quay"), KWIND_E_NO_ENTITY);
  EXPECT_EQ(kwind_server_put_in_room(server, {59, 1}, nullptr), KWIND_E_NO_ENTITY);
  EXPECT_STREQ(kwind_result_name(kwind_server_follow(server, 99, first)), "no_such_peer");
  int count = 1;
  while (kwind_server_spawn(server, buoy, &other) == KWIND_OK) ++count;
  EXPECT_EQ(count, 60);
  EXPECT_EQ(kwind_server_spawn(server, buoy, &other), KWIND_E_TOO_MANY);
  EXPECT_EQ(kwind_client_get(client, {999999, 1}, tug), KWIND_E_NO_ENTITY);
  ASSERT_TRUE(until([&] { return count_of_entities(client) == 60; }));
  EXPECT_EQ(kwind_client_sample(client, first, -1, tug), KWIND_E_ARGUMENT);
  EXPECT_EQ(kwind_client_sample(client, first, 0.0 / 0.0, tug), KWIND_E_ARGUMENT);
  EXPECT_EQ(kwind_client_input(client, hail, nullptr), static_cast<kwind_result>(42));
}

TEST_F(Misuse, ValueOfAnEventIsReadOnly) {
  serve();
  kwind_client* const client = join();
  Value hail(protocol, "Hail");
  int events = 0;
  on_server_event = [&](const kwind_event& event) {
    if (event.event != KWIND_EVENT_MESSAGE) return;
    ++events;
    auto* const value = const_cast<kwind_value*>(event.value);
    EXPECT_EQ(kwind_value_set_int(value, "cargo", 1), KWIND_E_ARGUMENT);
    EXPECT_EQ(kwind_value_reset(value), KWIND_E_ARGUMENT);
    kwind_value_free(value);
    EXPECT_EQ(get_int(event.value, "cargo"), 0) << "it is the library's, and not freed";
  };
  ASSERT_EQ(kwind_client_send(client, hail), KWIND_OK);
  ASSERT_TRUE(until([&] { return events == 1; }));
}

TEST_F(Misuse, TwoThreadsInOneObjectAreToldSo) {
  serve();
  std::thread steps([&] { EXPECT_EQ(kwind_server_step(server, 2000), KWIND_OK); });
  kwind_result seen = KWIND_OK;
  for (int i = 0; i < 2000 && seen != KWIND_E_BUSY; ++i) {
    kwind_event event = KWIND_EVENT_INIT;
    seen = kwind_server_next_event(server, &event);
    std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }
  EXPECT_EQ(seen, KWIND_E_BUSY);
  EXPECT_EQ(kwind_server_wake(server), KWIND_OK);
  steps.join();
}

TEST(Results, HaveNames) {
  EXPECT_STREQ(kwind_result_name(KWIND_OK), "KWIND_OK");
  EXPECT_STREQ(kwind_result_name(KWIND_E_INTERNAL), "KWIND_E_INTERNAL");
  EXPECT_STREQ(kwind_result_name(16), "rate_limited");
  EXPECT_STREQ(kwind_result_name(1000), "unknown");
  EXPECT_STREQ(kwind_result_name(-1000), "unknown");
}

// Calls in any order, with right and wrong arguments of every kind: the sanitizers watch.
TEST_F(Misuse, RandomCallsNeverCrash) {
  const char* const seed_text = std::getenv("KWIND_SEED");
  const unsigned seed = seed_text == nullptr ? 1U : static_cast<unsigned>(std::stoul(seed_text));
  std::printf("seed %u\n", seed);
  std::mt19937 random(seed);
  serve(60, "Helm");
  const auto pick = [&](std::size_t count) { return random() % count; };
  for (int i = 0; i < 2; ++i) join(60);
  std::vector<void*> handles{nullptr, reinterpret_cast<void*>(7), server, protocol};
  for (kwind_client* client : clients) handles.push_back(client);
  const char* const names[] = {"Hail",           "Notice",      "Tug",  "Buoy", "Mark", "TakeBerth",
                               "TakeBerthReply", "StatusReply", "Helm", "Tow",  "",     "x",
                               nullptr};
  const char* const paths[] = {
      "words", "cargo", "marks",   "marks[0]", "marks[3].at[1]", "depth",    "tide",  "tide.rising",
      "at",    "at[0]", "heading", "tug",      "berth",          "throttle", "until", "fuel",
      "[",     ".",     "a[",      "",         nullptr};
  for (const char* const name : names) {
    kwind_value* value = nullptr;
    if (kwind_value_new(protocol, name, &value) == KWIND_OK) handles.push_back(value);
  }
  const auto handle = [&] { return handles[pick(handles.size())]; };
  const auto value = [&] { return static_cast<kwind_value*>(handle()); };
  const auto path = [&] { return paths[pick(std::size(paths))]; };
  const auto entity = [&] {
    return kwind_ref{static_cast<std::uint32_t>(pick(70)), static_cast<std::uint8_t>(pick(4))};
  };
  std::size_t fine = 0;
  for (int i = 0; i < 20000; ++i) {
    auto* const s = static_cast<kwind_server*>(pick(3) == 0 ? handle() : server);
    auto* const c = static_cast<kwind_client*>(pick(3) == 0 ? handle() : clients[pick(2)]);
    kwind_result result = KWIND_OK;
    std::int64_t whole = 0;
    double real = 0;
    std::size_t count = 0;
    const char* text = nullptr;
    kwind_ref ref{};
    std::uint64_t request = 0;
    kwind_event event = KWIND_EVENT_INIT;
    kwind_stats stats = KWIND_STATS_INIT;
    switch (pick(35)) {
      case 0: result = kwind_value_set_int(value(), path(), static_cast<int>(random())); break;
      case 1: result = kwind_value_get_int(value(), path(), &whole); break;
      case 2:
        result = kwind_value_set_real(value(), path(), 0.0 / static_cast<double>(pick(2)));
        break;
      case 3: result = kwind_value_get_real(value(), path(), &real); break;
      case 4: result = kwind_value_set_text(value(), path(), "\xff\x80 fog", pick(6)); break;
      case 5: result = kwind_value_get_text(value(), path(), &text, &count); break;
      case 6: result = kwind_value_set_name(value(), path(), pick(2) ? "named" : "rising"); break;
      case 7: result = kwind_value_get_name(value(), path(), &text); break;
      case 8: result = kwind_value_set_count(value(), path(), pick(6)); break;
      case 9: result = kwind_value_get_count(value(), path(), &count); break;
      case 10: result = kwind_value_set_ref(value(), path(), entity()); break;
      case 11: result = kwind_value_get_ref(value(), path(), &ref); break;
      case 12: result = kwind_server_send(s, static_cast<std::uint32_t>(pick(4)), value()); break;
      case 13:
        result = kwind_server_send_all(s, static_cast<std::uint32_t>(pick(4)), value(), &count);
        break;
      case 14: result = kwind_server_spawn(s, value(), &ref); break;
      case 15: result = kwind_server_set(s, entity(), value()); break;
      case 16:
        result = pick(2) ? kwind_server_despawn(s, entity())
                         : kwind_server_put_in_room(s, entity(), pick(2) ? path() : nullptr);
        break;
      case 17:
        result = kwind_server_follow(s, static_cast<std::uint32_t>(pick(4)), entity());
        break;
      case 18:
        result = kwind_server_set_owned(s, static_cast<std::uint32_t>(pick(4)), entity(),
                                        static_cast<int>(pick(2)));
        break;
      case 19:
        result = kwind_server_request(s, static_cast<std::uint32_t>(pick(4)), value(),
                                      static_cast<std::uint32_t>(pick(50)), &request);
        break;
      case 20: result = kwind_server_reply(s, pick(50), value()); break;
      case 21: result = kwind_server_refuse(s, pick(50), pick(2) ? "taken" : "x", path()); break;
      case 22: result = kwind_client_send(c, value()); break;
      case 23:
        result = kwind_client_request(c, value(), static_cast<std::uint32_t>(pick(50)), &request);
        break;
      case 24: result = kwind_client_reply(c, pick(50), value()); break;
      case 25: result = kwind_client_input(c, value(), nullptr); break;
      case 26: result = kwind_client_get(c, entity(), value()); break;
      case 27:
        result = kwind_client_sample(c, entity(), static_cast<double>(pick(1000)), value());
        break;
      case 28:
        result = kwind_server_enter_room(s, static_cast<std::uint32_t>(pick(4)), path());
        break;
      case 29: result = kwind_server_send_room(s, path(), 0, value(), &count); break;
      case 30:
        result = pick(2) ? kwind_server_stats(s, &stats) : kwind_client_stats(c, &stats);
        break;
      case 31: result = kwind_server_step(s, 0); break;
      case 32: result = kwind_client_step(c, 0); break;
      case 33: {
        double position[3];
        result =
            kwind_client_position(c, entity(), static_cast<double>(pick(1000)), path(), position);
        break;
      }
      default:
        result = pick(2) ? kwind_server_next_event(s, &event) : kwind_client_next_event(c, &event);
        break;
    }
    if (result == KWIND_OK) {
      ++fine;
    } else {
      ASSERT_NE(result, KWIND_E_INTERNAL) << kwind_last_error();
      ASSERT_STRNE(kwind_last_error(), "") << kwind_result_name(result);
    }
  }
  EXPECT_GT(fine, 1500U) << "calls must also come through";
  for (void* each : handles) kwind_value_free(static_cast<kwind_value*>(each));
}

}  // namespace misuse_test
}  // namespace kwind::c_test
