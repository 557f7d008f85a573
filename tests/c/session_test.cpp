// A server and clients through the C interface alone, over loopback: messages, requests, rooms, the
// replicated world, inputs, and the ends of connections.
#include "c/kit.h"

namespace kwind::c_test {
namespace session_test {

using Session = Quay;

TEST_F(Session, MessagesGoBothWays) {
  serve();
  kwind_client* const client = join();
  Value hail(protocol, "Hail");
  hail.set("words", std::string("ahoy"));
  ASSERT_EQ(kwind_client_send(client, hail), KWIND_OK) << kwind_last_error();
  ASSERT_TRUE(until([&] { return last(server_events, KWIND_EVENT_MESSAGE) != nullptr; }));
  const Seen& came = *last(server_events, KWIND_EVENT_MESSAGE);
  EXPECT_EQ(came.type, "Hail");
  EXPECT_EQ(came.value_text, "ahoy");

  std::uint32_t slot = 0;
  ASSERT_EQ(kwind_server_slot(server, came.event.peer, &slot), KWIND_OK);
  Value notice(protocol, "Notice");
  notice.set("from", static_cast<int>(slot)).set("words", std::string("heard"));
  ASSERT_EQ(kwind_server_send(server, came.event.peer, notice), KWIND_OK) << kwind_last_error();
  ASSERT_TRUE(until([&] { return last(client_events[0], KWIND_EVENT_MESSAGE) != nullptr; }));
  EXPECT_EQ(last(client_events[0], KWIND_EVENT_MESSAGE)->value_text, "heard");
}

TEST_F(Session, ClientOfAnotherDescriptionIsRefusedInASentence) {
  serve();
  const kwind_source source{"other.kw",
                            "protocol other 1\nchannel c ordered\n"
                            "message A from client on c { }\n"};
  kwind_protocol* other = nullptr;
  ASSERT_EQ(kwind_protocol_compile(&source, 1, &other), KWIND_OK);
  const char* address = nullptr;
  const char* key = nullptr;
  ASSERT_EQ(kwind_server_address(server, 0, &address), KWIND_OK);
  ASSERT_EQ(kwind_server_public_key(server, &key), KWIND_OK);
  kwind_client_options options = KWIND_CLIENT_OPTIONS_INIT;
  options.server = address;
  options.server_key = key;
  kwind_client* client = nullptr;
  ASSERT_EQ(kwind_client_open(other, &options, &client), KWIND_OK) << kwind_last_error();
  clients.push_back(client);
  client_events.emplace_back();
  ASSERT_TRUE(until([&] { return last(client_events[0], KWIND_EVENT_DISCONNECTED) != nullptr; }));
  const Seen& end = *last(client_events[0], KWIND_EVENT_DISCONNECTED);
  EXPECT_STREQ(kwind_result_name(end.event.result), "protocol_name");
  EXPECT_NE(end.text.find("different names"), std::string::npos) << end.text;
  kwind_protocol_free(other);
}

TEST_F(Session, RequestHasOneOutcome) {
  serve();
  kwind_client* const client = join();
  Value ask(protocol, "TakeBerth");
  std::uint64_t first = 0;
  std::uint64_t second = 0;
  std::uint64_t third = 0;
  ASSERT_EQ(kwind_client_request(client, ask.set("berth", 4), 2000, &first), KWIND_OK);
  ASSERT_EQ(kwind_client_request(client, ask.set("berth", 5), 2000, &second), KWIND_OK);
  ASSERT_EQ(kwind_client_request(client, ask.set("berth", 6), 100, &third), KWIND_OK);
  std::vector<std::uint64_t> questions;
  on_server_event = [&](const kwind_event& event) {
    if (event.event != KWIND_EVENT_REQUEST) return;
    questions.push_back(event.request);
    const std::int64_t berth = get_int(event.value, "berth");
    if (berth == 4) {
      Value reply(protocol, "TakeBerthReply");
      reply.set("until", 600);
      Value wrong(protocol, "Mark");
      EXPECT_EQ(kwind_server_reply(server, event.request, wrong), KWIND_E_TYPE);
      EXPECT_EQ(kwind_server_reply(server, event.request, reply), KWIND_OK) << kwind_last_error();
      EXPECT_STREQ(kwind_result_name(kwind_server_reply(server, event.request, reply)),
                   "stray_answer");
    } else if (berth == 5) {
      EXPECT_EQ(kwind_server_refuse(server, event.request, "sunk", nullptr), KWIND_E_NAME);
      EXPECT_EQ(kwind_server_refuse(server, event.request, "taken", "by the ferry"), KWIND_OK);
    }
  };
  ASSERT_TRUE(until([&] { return count(client_events[0], KWIND_EVENT_OUTCOME) == 3; }));
  for (const Seen& each : client_events[0]) {
    if (each.event.event != KWIND_EVENT_OUTCOME) continue;
    if (each.event.request == first) {
      EXPECT_EQ(each.event.outcome, static_cast<unsigned>(KWIND_OUTCOME_REPLIED));
      EXPECT_EQ(each.type, "TakeBerthReply");
      EXPECT_EQ(each.number, 600);
    } else if (each.event.request == second) {
      EXPECT_EQ(each.event.outcome, static_cast<unsigned>(KWIND_OUTCOME_REFUSED));
      EXPECT_EQ(each.text, "taken");
      EXPECT_EQ(each.words, "by the ferry");
    } else {
      EXPECT_EQ(each.event.request, third);
      EXPECT_EQ(each.event.outcome, static_cast<unsigned>(KWIND_OUTCOME_TIMED_OUT));
    }
  }
  EXPECT_EQ(questions.size(), 3U);
}

TEST_F(Session, ServerAsksAClient) {
  serve();
  kwind_client* const client = join();
  const std::uint32_t peer = last(server_events, KWIND_EVENT_CONNECTED)->event.peer;
  Value ask(protocol, "Status");
  std::uint64_t request = 0;
  ASSERT_EQ(kwind_server_request(server, peer, ask, 2000, &request), KWIND_OK);
  ASSERT_TRUE(until([&] { return last(client_events[0], KWIND_EVENT_REQUEST) != nullptr; }));
  Value reply(protocol, "StatusReply");
  reply.set("fuel", 0.5);
  const std::uint64_t question = last(client_events[0], KWIND_EVENT_REQUEST)->event.request;
  EXPECT_EQ(kwind_client_refuse(client, question, "tired", nullptr), KWIND_E_NAME);
  ASSERT_EQ(kwind_client_reply(client, question, reply), KWIND_OK) << kwind_last_error();
  ASSERT_TRUE(until([&] { return last(server_events, KWIND_EVENT_OUTCOME) != nullptr; }));
  const Seen& outcome = *last(server_events, KWIND_EVENT_OUTCOME);
  EXPECT_EQ(outcome.event.request, request);
  EXPECT_EQ(outcome.event.outcome, static_cast<unsigned>(KWIND_OUTCOME_REPLIED));
}

TEST_F(Session, RoomsHoldPeers) {
  serve();
  for (int i = 0; i < 3; ++i) join();
  std::vector<std::uint32_t> peers;
  for (const Seen& each : server_events) {
    if (each.event.event == KWIND_EVENT_CONNECTED) peers.push_back(each.event.peer);
  }
  ASSERT_EQ(peers.size(), 3U);
  ASSERT_EQ(kwind_server_enter_room(server, peers[0], "east quay"), KWIND_OK);
  ASSERT_EQ(kwind_server_enter_room(server, peers[1], "east quay"), KWIND_OK);
  Value notice(protocol, "Notice");
  std::size_t sent = 0;
  ASSERT_EQ(kwind_server_send_room(server, "east quay", 0, notice, &sent), KWIND_OK);
  EXPECT_EQ(sent, 2U);
  ASSERT_EQ(kwind_server_send_room(server, "east quay", peers[1], notice, &sent), KWIND_OK);
  EXPECT_EQ(sent, 1U);
  ASSERT_EQ(kwind_server_send_all(server, peers[0], notice, &sent), KWIND_OK);
  EXPECT_EQ(sent, 2U);
  ASSERT_EQ(kwind_server_leave_room(server, peers[0], "east quay"), KWIND_OK);
  ASSERT_EQ(kwind_server_send_room(server, "east quay", 0, notice, &sent), KWIND_OK);
  EXPECT_EQ(sent, 1U);
  EXPECT_STREQ(kwind_result_name(kwind_server_enter_room(server, 99, "east quay")), "no_such_peer");
  ASSERT_TRUE(until([&] {
    return count(client_events[0], KWIND_EVENT_MESSAGE) == 2 &&
           count(client_events[1], KWIND_EVENT_MESSAGE) == 3 &&
           count(client_events[2], KWIND_EVENT_MESSAGE) == 1;
  }));
}

TEST_F(Session, AnEntityInARoomIsForThoseInTheRoom) {
  serve(50);
  kwind_client* const client = join(50);
  const std::uint32_t peer = last(server_events, KWIND_EVENT_CONNECTED)->event.peer;
  Value buoy(protocol, "Buoy");
  kwind_ref in_room{};
  kwind_ref free{};
  ASSERT_EQ(kwind_server_spawn(server, buoy, &in_room), KWIND_OK);
  ASSERT_EQ(kwind_server_put_in_room(server, in_room, "lock"), KWIND_OK) << kwind_last_error();
  ASSERT_EQ(kwind_server_spawn(server, buoy, &free), KWIND_OK);
  ASSERT_TRUE(until([&] { return count(client_events[0], KWIND_EVENT_SPAWNED) == 1; }));
  Value seen(protocol, "Buoy");
  EXPECT_EQ(kwind_client_get(client, in_room, seen), KWIND_E_NO_ENTITY);
  ASSERT_EQ(kwind_server_enter_room(server, peer, "lock"), KWIND_OK);
  ASSERT_TRUE(until([&] { return count(client_events[0], KWIND_EVENT_SPAWNED) == 2; }));
  ASSERT_EQ(kwind_server_leave_room(server, peer, "lock"), KWIND_OK);
  ASSERT_TRUE(until([&] { return count(client_events[0], KWIND_EVENT_DESPAWNED) == 1; }));
  ASSERT_EQ(kwind_server_put_in_room(server, in_room, nullptr), KWIND_OK);
  ASSERT_TRUE(until([&] { return count(client_events[0], KWIND_EVENT_SPAWNED) == 3; }));
}

TEST_F(Session, APositionCountsFromItsCarrier) {
  serve(50);
  kwind_client* const client = join(50);
  Value tug(protocol, "Tug");
  tug.set("at[0]", 10.0).set("at[1]", 20.0);
  kwind_ref tug_ref{};
  ASSERT_EQ(kwind_server_spawn(server, tug, &tug_ref), KWIND_OK) << kwind_last_error();
  // A crate aboard is where the tug is, and two metres further.
  Value crate(protocol, "Crate");
  crate.set("at[0]", 2.0);
  ASSERT_EQ(kwind_value_set_ref(crate, "aboard", tug_ref), KWIND_OK) << kwind_last_error();
  kwind_ref crate_ref{};
  ASSERT_EQ(kwind_server_spawn(server, crate, &crate_ref), KWIND_OK) << kwind_last_error();
  double position[3] = {9, 9, 9};
  double at_tick = 0;
  std::uint32_t newest_tick = 0;
  ASSERT_TRUE(until([&] {
    return kwind_client_tick(client, &newest_tick, &at_tick) == KWIND_OK &&
           kwind_client_position(client, crate_ref, at_tick, "at", position) == KWIND_OK;
  })) << kwind_last_error();
  EXPECT_EQ(position[0], 12);
  EXPECT_EQ(position[2], 0);
  EXPECT_EQ(kwind_client_position(client, tug_ref, at_tick, "at", position), KWIND_OK);
  EXPECT_EQ(position[0], 10);
  for (const char* field : {"fuel", "nothing", static_cast<const char*>(nullptr)}) {
    EXPECT_EQ(kwind_client_position(client, tug_ref, at_tick, field, position), KWIND_E_ARGUMENT);
  }
  EXPECT_EQ(kwind_client_position(client, tug_ref, -1, "at", position), KWIND_E_ARGUMENT);
  EXPECT_EQ(kwind_client_position(client, tug_ref, at_tick, "at", nullptr), KWIND_E_ARGUMENT);
  EXPECT_EQ(kwind_client_position(client, {59, 1}, at_tick, "at", position), KWIND_E_NO_ENTITY);
  // Without its tug it has no world position.
  ASSERT_EQ(kwind_server_despawn(server, tug_ref), KWIND_OK);
  ASSERT_TRUE(until([&] {
    return kwind_client_tick(client, &newest_tick, &at_tick) == KWIND_OK &&
           kwind_client_position(client, crate_ref, at_tick, "at", position) == KWIND_E_NO_ENTITY;
  }));
}

TEST_F(Session, WorldReachesClientsAndIsSampledBetweenTicks) {
  serve(50);
  kwind_client* const client = join(50);
  Value tug(protocol, "Tug");
  tug.set("at[0]", 10.0).set("at[1]", 20.0).set("heading", 350.0).set("cargo", 2).set("fuel", 0.5);
  Value buoy(protocol, "Buoy");
  buoy.set("name", std::string("bell"));
  kwind_ref tug_ref{};
  kwind_ref buoy_ref{};
  ASSERT_EQ(kwind_server_spawn(server, tug, &tug_ref), KWIND_OK) << kwind_last_error();
  ASSERT_EQ(kwind_server_spawn(server, buoy, &buoy_ref), KWIND_OK);
  ASSERT_TRUE(until([&] { return count(client_events[0], KWIND_EVENT_SPAWNED) == 2; }));

  Value seen(protocol, "Buoy");
  ASSERT_EQ(kwind_client_get(client, tug_ref, seen), KWIND_OK) << kwind_last_error();
  EXPECT_STREQ(kwind_value_type(seen), "Tug");
  EXPECT_EQ(get_real(seen, "at[1]"), 20);
  EXPECT_EQ(get_int(seen, "cargo"), 2);
  EXPECT_EQ(get_real(seen, "fuel"), 0) << "only its owner sees it";
  ASSERT_EQ(kwind_client_get(client, buoy_ref, seen), KWIND_OK);
  EXPECT_EQ(get_text(seen, "name"), "bell");

  // The owner sees what is its own.
  const std::uint32_t peer = last(server_events, KWIND_EVENT_CONNECTED)->event.peer;
  ASSERT_EQ(kwind_server_follow(server, peer, tug_ref), KWIND_OK) << kwind_last_error();
  ASSERT_TRUE(until([&] {
    int owned = 0;
    return kwind_client_owns(client, tug_ref, &owned) == KWIND_OK && owned == 1;
  }));
  ASSERT_EQ(kwind_client_get(client, tug_ref, seen), KWIND_OK);
  EXPECT_EQ(get_real(seen, "fuel"), 0.5);

  // It moves a metre a tick: what is drawn lies between the states of two ticks, and turns the
  // short way round.
  double x = 10;
  on_server_event = [&](const kwind_event& event) {
    if (event.event != KWIND_EVENT_TICK) return;
    x += 1;
    tug.set("at[0]", x).set("heading", x < 40 ? 350.0 : 10.0);
    EXPECT_EQ(kwind_server_set(server, tug_ref, tug), KWIND_OK) << kwind_last_error();
  };
  bool between = false;
  double last_x = 0;
  ASSERT_TRUE(until([&] {
    double shown = 0;
    std::uint32_t newest = 0;
    if (kwind_client_tick(client, &newest, &shown) != KWIND_OK) return false;
    EXPECT_EQ(kwind_client_sample(client, tug_ref, shown, seen), KWIND_OK) << kwind_last_error();
    const double now = get_real(seen, "at[0]");
    const double heading = get_real(seen, "heading");
    EXPECT_GE(now, last_x);
    EXPECT_TRUE(heading >= 349.9 || heading <= 10.1) << heading;
    between = between || now != static_cast<double>(static_cast<int>(now));
    last_x = now;
    return now > 60;
  }));
  EXPECT_TRUE(between);
  EXPECT_GT(count(client_events[0], KWIND_EVENT_UPDATED), 20U);

  ASSERT_EQ(kwind_server_despawn(server, tug_ref), KWIND_OK);
  EXPECT_EQ(kwind_server_despawn(server, tug_ref), KWIND_E_NO_ENTITY);
  on_server_event = nullptr;
  ASSERT_TRUE(until([&] { return last(client_events[0], KWIND_EVENT_DESPAWNED) != nullptr; }));
  EXPECT_EQ(kwind_client_get(client, tug_ref, seen), KWIND_E_NO_ENTITY);
  kwind_ref all[4];
  std::size_t entities = 0;
  ASSERT_EQ(kwind_client_entities(client, all, 4, &entities), KWIND_OK);
  ASSERT_EQ(entities, 1U);
  EXPECT_EQ(all[0].id, buoy_ref.id);
}

TEST_F(Session, DistanceDecidesWhatIsInView) {
  const char* const listen[] = {"127.0.0.1:0"};
  kwind_server_options options = KWIND_SERVER_OPTIONS_INIT;
  options.listen = listen;
  options.listen_count = 1;
  options.tick_rate = 50;
  options.view_enter = 100;
  ASSERT_EQ(kwind_server_open(protocol, &options, &server), KWIND_OK) << kwind_last_error();
  join(50);
  Value buoy(protocol, "Buoy");
  kwind_ref near{};
  kwind_ref far{};
  ASSERT_EQ(kwind_server_spawn(server, buoy, &near), KWIND_OK);
  ASSERT_EQ(kwind_server_spawn(server, buoy.set("at[0]", 300.0), &far), KWIND_OK);
  const std::uint32_t peer = last(server_events, KWIND_EVENT_CONNECTED)->event.peer;
  ASSERT_EQ(kwind_server_set_origin(server, peer, 0, 0, 0), KWIND_OK);
  ASSERT_TRUE(until([&] { return last(client_events[0], KWIND_EVENT_SPAWNED) != nullptr; }));
  EXPECT_EQ(last(client_events[0], KWIND_EVENT_SPAWNED)->event.entity.id, near.id);
  ASSERT_EQ(kwind_server_set_origin(server, peer, 300, 0, 0), KWIND_OK);
  ASSERT_TRUE(until([&] { return last(client_events[0], KWIND_EVENT_DESPAWNED) != nullptr; }));
  EXPECT_EQ(last(client_events[0], KWIND_EVENT_SPAWNED)->event.entity.id, far.id);
}

TEST_F(Session, InputsComeOneATickAndAreAcknowledgedWithTheirEffect) {
  serve(50, "Helm");
  kwind_client* const client = join(50);
  const std::uint32_t peer = last(server_events, KWIND_EVENT_CONNECTED)->event.peer;
  Value tug(protocol, "Tug");
  kwind_ref ref{};
  ASSERT_EQ(kwind_server_spawn(server, tug, &ref), KWIND_OK);
  ASSERT_EQ(kwind_server_follow(server, peer, ref), KWIND_OK);
  int inputs_in_tick = 0;
  double x = 0;
  on_server_event = [&](const kwind_event& event) {
    if (event.event == KWIND_EVENT_TICK) {
      EXPECT_LE(inputs_in_tick, 1);
      inputs_in_tick = 0;
    }
    if (event.event != KWIND_EVENT_INPUT) return;
    ++inputs_in_tick;
    x += 1;
    EXPECT_EQ(kwind_server_set(server, ref, tug.set("at[0]", x)), KWIND_OK);
  };
  // As a message it would be a second input in its tick.
  Value helm(protocol, "Helm");
  ASSERT_EQ(kwind_client_send(client, helm), KWIND_OK);
  std::uint32_t sent = 0;
  std::uint32_t number = 0;
  ASSERT_TRUE(until([&] {
    if (sent < 20) {
      EXPECT_EQ(kwind_client_input(client, helm.set("throttle", static_cast<int>(sent)), &number),
                KWIND_OK)
          << kwind_last_error();
      ++sent;
      for (int i = 0; i < 5; ++i) step();
    }
    std::uint32_t processed = 0;
    EXPECT_EQ(kwind_client_processed_input(client, &processed), KWIND_OK);
    Value seen(protocol, "Tug");
    if (processed > 0 && kwind_client_get(client, ref, seen) == KWIND_OK) {
      // The state of the newest snapshot is the one after as many inputs as it says were processed.
      EXPECT_LE(get_real(seen, "at[0]"), processed);
      if (processed == number && number == 20) {
        EXPECT_EQ(get_real(seen, "at[0]"), x);
      }
    }
    return processed == 20;
  }));
  EXPECT_EQ(number, 20U);
  EXPECT_EQ(count(server_events, KWIND_EVENT_MESSAGE), 0U);
}

TEST_F(Session, OnlyTheOwnerMaySendForAnEntity) {
  serve(50);
  kwind_client* const client = join(50);
  const std::uint32_t peer = last(server_events, KWIND_EVENT_CONNECTED)->event.peer;
  Value tug(protocol, "Tug");
  kwind_ref ref{};
  ASSERT_EQ(kwind_server_spawn(server, tug, &ref), KWIND_OK);
  ASSERT_TRUE(until([&] { return last(client_events[0], KWIND_EVENT_SPAWNED) != nullptr; }));
  Value tow(protocol, "Tow");
  ASSERT_EQ(kwind_value_set_ref(tow, "tug", ref), KWIND_OK);
  ASSERT_EQ(kwind_client_send(client, tow.set("barge", 1)), KWIND_OK);
  ASSERT_TRUE(until([&] {
    kwind_stats stats = KWIND_STATS_INIT;
    EXPECT_EQ(kwind_server_stats(server, &stats), KWIND_OK);
    return stats.dropped > 0;
  }));
  EXPECT_EQ(count(server_events, KWIND_EVENT_MESSAGE), 0U);
  ASSERT_EQ(kwind_server_set_owned(server, peer, ref, 1), KWIND_OK);
  for (int i = 0; i < 50; ++i) step();
  ASSERT_EQ(kwind_client_send(client, tow.set("barge", 2)), KWIND_OK);
  ASSERT_TRUE(until([&] { return count(server_events, KWIND_EVENT_MESSAGE) == 1; }));
  EXPECT_EQ(last(server_events, KWIND_EVENT_MESSAGE)->number, 2);
}

TEST_F(Session, ValuesOutOfRangeAreClampedAndCounted) {
  serve();
  kwind_client* const client = join();
  Value echo(protocol, "Echo");
  ASSERT_EQ(kwind_client_send(client, echo.set("number", 2000000)), KWIND_OK);
  ASSERT_TRUE(until([&] { return count(server_events, KWIND_EVENT_MESSAGE) == 1; }));
  EXPECT_EQ(last(server_events, KWIND_EVENT_MESSAGE)->number, 1000000);
  kwind_stats stats = KWIND_STATS_INIT;
  ASSERT_EQ(kwind_client_stats(client, &stats), KWIND_OK);
  EXPECT_EQ(stats.values_out_of_range, 1U);
  EXPECT_GT(stats.bytes_sent, 0U);
}

TEST_F(Session, CloseIsToldToBothEnds) {
  serve();
  kwind_client* const client = join();
  join();
  ASSERT_EQ(kwind_client_close(client, "the tour is over"), KWIND_OK);
  ASSERT_TRUE(until([&] {
    return last(client_events[0], KWIND_EVENT_DISCONNECTED) != nullptr &&
           last(server_events, KWIND_EVENT_DISCONNECTED) != nullptr;
  }));
  EXPECT_NE(last(server_events, KWIND_EVENT_DISCONNECTED)->text.find("the tour is over"),
            std::string::npos);
  Value hail(protocol, "Hail");
  EXPECT_STREQ(kwind_result_name(kwind_client_send(client, hail)), "closed");
  ASSERT_EQ(kwind_server_close_all(server, "night"), KWIND_OK);
  ASSERT_TRUE(until([&] { return last(client_events[1], KWIND_EVENT_DISCONNECTED) != nullptr; }));
  EXPECT_NE(last(client_events[1], KWIND_EVENT_DISCONNECTED)->text.find("night"),
            std::string::npos);
}

TEST_F(Session, OpenRequestsEndWithTheClient) {
  serve();
  kwind_client* const client = join();
  Value ask(protocol, "TakeBerth");
  std::uint64_t request = 0;
  ASSERT_EQ(kwind_client_request(client, ask, 60000, &request), KWIND_OK);
  ASSERT_TRUE(until([&] { return last(server_events, KWIND_EVENT_REQUEST) != nullptr; }));
  const std::uint64_t question = last(server_events, KWIND_EVENT_REQUEST)->event.request;
  ASSERT_EQ(kwind_client_close(client, nullptr), KWIND_OK);
  ASSERT_TRUE(until([&] { return last(client_events[0], KWIND_EVENT_OUTCOME) != nullptr; }));
  EXPECT_EQ(last(client_events[0], KWIND_EVENT_OUTCOME)->event.outcome,
            static_cast<unsigned>(KWIND_OUTCOME_DISCONNECTED));
  ASSERT_TRUE(until([&] { return last(server_events, KWIND_EVENT_DISCONNECTED) != nullptr; }));
  Value reply(protocol, "TakeBerthReply");
  EXPECT_STREQ(kwind_result_name(kwind_server_reply(server, question, reply)), "stray_answer");
}

}  // namespace session_test
}  // namespace kwind::c_test
