/* Two ends of a world that write down what they hold, so that a script can compare all of it: one line for each entity
 * and tick, "TICK ID GENERATION X Y" in 16ths of a metre.
 *   c_compare server SECONDS FILE           prints "listening: - ADDRESS KEY"
 *   c_compare client ADDRESS KEY SECONDS FILE */
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "towage_c.h"

enum { kTickRate = 20, kEntities = 60, kIds = 201 };

static void check(kwind_result result, const char* what) {
  if (result == KWIND_OK) return;
  fprintf(stderr, "%s: %s\n", what, kwind_last_error());
  exit(1);
}

static kwind_protocol* towage(void) {
  kwind_protocol* protocol;
  check(kwind_protocol_compile(towage_sources, TOWAGE_SOURCE_COUNT, &protocol), "towage.kw");
  return protocol;
}

static FILE* open_log(const char* path) {
  FILE* log = fopen(path, "w");
  if (log == NULL) {
    fprintf(stderr, "%s cannot be written\n", path);
    exit(1);
  }
  return log;
}

/* In 16ths: what the description can hold, so that nothing is rounded on the way. */
static long sixteenths(int i, uint32_t tick) {
  return lround(16 * (i + 90 * sin(tick / 30.0 + i)));
}

static int serve(double seconds, const char* path) {
  kwind_server_options options = KWIND_SERVER_OPTIONS_INIT;
  kwind_event event = KWIND_EVENT_INIT;
  kwind_server* server;
  kwind_value* gull;
  kwind_ref all[kEntities];
  kwind_protocol* protocol = towage();
  FILE* log = open_log(path);
  const char* listen[1] = {"127.0.0.1:0"};
  const char* address;
  const char* key;
  double end;

  memset(all, 0, sizeof all);
  check(kwind_value_new(protocol, "Gull", &gull), "Gull");
  options.listen = listen;
  options.listen_count = 1;
  options.tick_rate = kTickRate;
  check(kwind_server_open(protocol, &options, &server), "server");
  kwind_server_address(server, 0, &address);
  kwind_server_public_key(server, &key);
  printf("listening: - %s %s\n", address, key);
  fflush(stdout);
  end = kwind_now() + seconds;
  while (kwind_now() < end) {
    check(kwind_server_step(server, 50), "step");
    while (kwind_server_next_event(server, &event) == KWIND_OK) {
      if (event.event != KWIND_EVENT_TICK) continue;
      for (int i = 0; i < kEntities; ++i) {
        const long x = sixteenths(i, event.tick);
        const long y = sixteenths(i, event.tick + 47);
        /* Some stand still for a while, one in turn leaves and comes back with another generation. */
        if (i % 3 == 0 && event.tick / 100 % 2 == 0 && all[i].id != 0) {
          continue;
        }
        if (i == (int)(event.tick / 7 % kEntities) && event.tick % 7 == 0 && all[i].id != 0) {
          check(kwind_server_despawn(server, all[i]), "despawn");
          all[i].id = 0;
        }
        kwind_value_set_real(gull, "at[0]", (double)x / 16);
        kwind_value_set_real(gull, "at[1]", (double)y / 16);
        if (all[i].id == 0) {
          if (kwind_server_spawn(server, gull, &all[i]) != KWIND_OK) continue;
        } else {
          check(kwind_server_set(server, all[i], gull), "set");
        }
        fprintf(log, "%u %u %u %ld %ld\n", (unsigned)event.tick, (unsigned)all[i].id,
                (unsigned)all[i].generation, x, y);
      }
    }
  }
  return fclose(log) == 0 ? 0 : 1;
}

static int observe(const char* address, const char* key, double seconds, const char* path) {
  kwind_client_options options = KWIND_CLIENT_OPTIONS_INIT;
  kwind_event event = KWIND_EVENT_INIT;
  kwind_client* client;
  FILE* log = open_log(path);
  uint32_t last[kIds];
  int last_generation[kIds];
  kwind_ref all[kIds];
  double end;

  memset(last, 0, sizeof last);
  memset(last_generation, 0xff, sizeof last_generation);
  options.server = address;
  options.server_key = key;
  options.tick_rate = kTickRate;
  check(kwind_client_open(towage(), &options, &client), address);
  end = kwind_now() + seconds;
  while (kwind_now() < end) {
    size_t count = 0;
    check(kwind_client_step(client, 5), "step");
    while (kwind_client_next_event(client, &event) == KWIND_OK) {
      if (event.event == KWIND_EVENT_DISCONNECTED) {
        fprintf(stderr, "%s\n", event.text);
        return 1;
      }
    }
    check(kwind_client_entities(client, all, kIds, &count), "entities");
    for (size_t i = 0; i < count; ++i) {
      towage_gull gull;
      uint32_t tick = 0;
      const uint32_t id = all[i].id;
      check(kwind_client_state_tick(client, all[i], &tick), "tick");
      if (tick == last[id] && last_generation[id] == all[i].generation) continue;
      last[id] = tick;
      last_generation[id] = all[i].generation;
      check(kwind_client_get_struct(client, all[i], &towage_gull_layout, &gull), "gull");
      fprintf(log, "%u %u %u %ld %ld\n", (unsigned)tick, (unsigned)id, (unsigned)all[i].generation,
              lround(gull.at[0] * 16), lround(gull.at[1] * 16));
    }
  }
  return fclose(log) == 0 ? 0 : 1;
}

int main(int argc, char** argv) {
  if (argc == 4 && strcmp(argv[1], "server") == 0) return serve(atof(argv[2]), argv[3]);
  if (argc == 6 && strcmp(argv[1], "client") == 0) {
    return observe(argv[2], argv[3], atof(argv[4]), argv[5]);
  }
  fprintf(stderr, "usage: c_compare server SECONDS FILE | client ADDRESS KEY SECONDS FILE\n");
  return 2;
}
