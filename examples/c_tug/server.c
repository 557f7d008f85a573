/* A harbour in C: each client gets a tug, which its inputs steer; gulls circle; hails go to all.
 * Usage: c_tug_server [PORT] */
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "towage_c.h"

enum { kTickRate = 20, kGulls = 40, kMaxPeers = 32 };

typedef struct harbour {
  kwind_server* server;
  kwind_value* value; /* whatever is sent or set next */
  kwind_value* notice;
  struct {
    uint32_t peer; /* 0: free */
    kwind_ref ref;
    towage_tug state;
  } tugs[kMaxPeers];
  kwind_ref gulls[kGulls];
} harbour;

static void check(kwind_result result, const char* what) {
  if (result == KWIND_OK) return;
  fprintf(stderr, "%s: %s\n", what, kwind_last_error());
  exit(1);
}

static void connect_tug(harbour* h, uint32_t peer) {
  for (int i = 0; i < kMaxPeers; ++i) {
    if (h->tugs[i].peer != 0) continue;
    h->tugs[i].peer = peer;
    memset(&h->tugs[i].state, 0, sizeof h->tugs[i].state);
    h->tugs[i].state.at[0] = 10.0 * i;
    check(kwind_value_from_struct(h->value, &towage_tug_layout, &h->tugs[i].state), "tug");
    check(kwind_server_spawn(h->server, h->value, &h->tugs[i].ref), "spawn");
    /* A client may have left since: the next events say so, and disconnect_tug() clears up. */
    if (kwind_server_follow(h->server, peer, h->tugs[i].ref) != KWIND_OK) return;
    printf("pilot %u is here\n", (unsigned)peer);
    return;
  }
}

static void disconnect_tug(harbour* h, uint32_t peer, const char* why) {
  for (int i = 0; i < kMaxPeers; ++i) {
    if (h->tugs[i].peer != peer) continue;
    kwind_server_despawn(h->server, h->tugs[i].ref);
    h->tugs[i].peer = 0;
    printf("pilot %u is gone: %s\n", (unsigned)peer, why);
  }
}

/* One input is one tick of sailing. */
static void sail(harbour* h, uint32_t peer, const kwind_value* input) {
  towage_helm helm;
  check(kwind_value_to_struct(input, &towage_helm_layout, &helm), "helm");
  for (int i = 0; i < kMaxPeers; ++i) {
    if (h->tugs[i].peer != peer) continue;
    towage_tug* tug = &h->tugs[i].state;
    tug->bearing = fmod(tug->bearing + 4 * helm.rudder + 360, 360);
    const double metres = helm.throttle / 100.0;
    tug->at[0] += metres * sin(tug->bearing * 3.14159265358979 / 180);
    tug->at[1] += metres * cos(tug->bearing * 3.14159265358979 / 180);
    check(kwind_value_from_struct(h->value, &towage_tug_layout, tug), "tug");
    check(kwind_server_set(h->server, h->tugs[i].ref, h->value), "set");
  }
}

static void move_gulls(harbour* h, kwind_value* gull, uint32_t tick) {
  for (int i = 0; i < kGulls; ++i) {
    const double angle = tick / 40.0 + i;
    kwind_value_set_real(gull, "at[0]", 20 * (i % 8) - 70 + 15 * cos(angle));
    kwind_value_set_real(gull, "at[1]", 20.0 * (i / 8) - 40 + 15 * sin(angle));
    if (h->gulls[i].id == 0) {
      check(kwind_server_spawn(h->server, gull, &h->gulls[i]), "spawn");
    } else {
      check(kwind_server_set(h->server, h->gulls[i], gull), "set");
    }
  }
}

static void pass_on(harbour* h, uint32_t peer, const kwind_value* hail) {
  const char* words;
  size_t size;
  uint32_t slot = 0;
  kwind_value_get_text(hail, "words", &words, &size);
  kwind_server_slot(h->server, peer, &slot);
  kwind_value_set_int(h->notice, "from", slot);
  kwind_value_set_text(h->notice, "words", words, size);
  check(kwind_server_send_all(h->server, peer, h->notice, NULL), "notice");
}

int main(int argc, char** argv) {
  char address[64];
  const char* listen[1] = {address};
  const char* text;
  kwind_protocol* protocol;
  kwind_value* gull;
  static harbour h;
  kwind_server_options options = KWIND_SERVER_OPTIONS_INIT;
  kwind_event event = KWIND_EVENT_INIT;

  setvbuf(stdout, NULL, _IOLBF, 0);
  snprintf(address, sizeof address, "127.0.0.1:%s", argc > 1 ? argv[1] : "4000");
  check(kwind_protocol_compile(towage_sources, TOWAGE_SOURCE_COUNT, &protocol), "towage.kw");
  check(kwind_value_new(protocol, "Tug", &h.value), "Tug");
  check(kwind_value_new(protocol, "Gull", &gull), "Gull");
  check(kwind_value_new(protocol, "Notice", &h.notice), "Notice");
  options.listen = listen;
  options.listen_count = 1;
  options.capacity = kMaxPeers;
  options.tick_rate = kTickRate;
  options.view_enter = 60;
  options.view_leave = 70;
  options.input = "Helm";
  check(kwind_server_open(protocol, &options, &h.server), address);
  kwind_server_address(h.server, 0, &text);
  printf("listening: c_tug %s ", text);
  kwind_server_public_key(h.server, &text);
  printf("%s\n", text);

  while (kwind_server_step(h.server, 100) == KWIND_OK) {
    while (kwind_server_next_event(h.server, &event) == KWIND_OK) {
      switch (event.event) {
        case KWIND_EVENT_CONNECTED: connect_tug(&h, event.peer); break;
        case KWIND_EVENT_DISCONNECTED: disconnect_tug(&h, event.peer, event.text); break;
        case KWIND_EVENT_INPUT: sail(&h, event.peer, event.value); break;
        case KWIND_EVENT_TICK: move_gulls(&h, gull, event.tick); break;
        case KWIND_EVENT_MESSAGE: pass_on(&h, event.peer, event.value); break;
        default: break;
      }
    }
  }
  fprintf(stderr, "%s\n", kwind_last_error());
  return 1;
}
