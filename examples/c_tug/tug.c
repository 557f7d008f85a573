/* A pilot in C: steers a tug in a circle, hails once, and prints what is in view.
 * Usage: c_tug HOST:PORT KEY [SECONDS]; the server prints the first two. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "towage_c.h"

enum { kTickRate = 20, kMaxInView = 200 };

static void check(kwind_result result, const char* what) {
  if (result == KWIND_OK) return;
  fprintf(stderr, "%s: %s\n", what, kwind_last_error());
  exit(1);
}

/* What is to be drawn now. */
static void print_view(kwind_client* client) {
  kwind_ref all[kMaxInView];
  size_t count = 0;
  unsigned tugs = 0;
  unsigned gulls = 0;
  double shown = 0;
  if (kwind_client_tick(client, NULL, &shown) != KWIND_OK) return;
  check(kwind_client_entities(client, all, kMaxInView, &count), "entities");
  for (size_t i = 0; i < count; ++i) {
    const char* type;
    towage_tug tug;
    int own = 0;
    if (kwind_client_entity_type(client, all[i], &type) != KWIND_OK) continue;
    if (strcmp(type, "Tug") != 0) {
      ++gulls;
      continue;
    }
    ++tugs;
    check(kwind_client_sample_struct(client, all[i], shown, &towage_tug_layout, &tug), "tug");
    kwind_client_owns(client, all[i], &own);
    printf("  %s %u at %.2f, %.2f, bearing %.0f\n", own ? "own tug" : "tug", (unsigned)all[i].id,
           tug.at[0], tug.at[1], tug.bearing);
  }
  printf("tick %.1f: %u tugs and %u gulls in view\n", shown, tugs, gulls);
}

static void hail(kwind_client* client, kwind_protocol* protocol) {
  kwind_value* value;
  const char words[] = "ahoy from C";
  check(kwind_value_new(protocol, "Hail", &value), "Hail");
  check(kwind_value_set_text(value, "words", words, sizeof words - 1), "words");
  check(kwind_client_send(client, value), "hail");
  kwind_value_free(value);
}

int main(int argc, char** argv) {
  kwind_protocol* protocol;
  kwind_client* client;
  kwind_value* input;
  kwind_client_options options = KWIND_CLIENT_OPTIONS_INIT;
  kwind_event event = KWIND_EVENT_INIT;
  const towage_helm helm = {0.5, 80};
  const double seconds = argc > 3 ? atof(argv[3]) : 5;
  const double start = kwind_now();
  double next_input = start;
  double next_look = start + 1;
  int closed = 0;

  if (argc < 3) {
    fprintf(stderr, "usage: c_tug HOST:PORT KEY [SECONDS]\n");
    return 2;
  }
  setvbuf(stdout, NULL, _IOLBF, 0);
  check(kwind_protocol_compile(towage_sources, TOWAGE_SOURCE_COUNT, &protocol), "towage.kw");
  check(kwind_value_new(protocol, "Helm", &input), "Helm");
  check(kwind_value_from_struct(input, &towage_helm_layout, &helm), "helm");
  options.server = argv[1];
  options.server_key = argv[2];
  options.tick_rate = kTickRate;
  options.only_once = 1;
  check(kwind_client_open(protocol, &options, &client), argv[1]);

  while (!closed) {
    const double now = kwind_now();
    check(kwind_client_step(client, 10), "step");
    while (kwind_client_next_event(client, &event) == KWIND_OK) {
      if (event.event == KWIND_EVENT_CONNECTED) hail(client, protocol);
      if (event.event == KWIND_EVENT_MESSAGE) {
        const char* words;
        kwind_value_get_text(event.value, "words", &words, NULL);
        printf("notice: %s\n", words);
      }
      if (event.event == KWIND_EVENT_DISCONNECTED) {
        closed = 1;
        if (now < start + seconds) {
          fprintf(stderr, "%s: %s\n", argv[1], event.text);
          return 1;
        }
      }
    }
    if (kwind_client_connected(client) && now >= next_input) {
      next_input += 1.0 / kTickRate;
      check(kwind_client_input(client, input, NULL), "input");
    }
    if (now >= next_look) {
      next_look += 1;
      print_view(client);
    }
    if (now >= start + seconds && kwind_client_connected(client)) {
      check(kwind_client_close(client, "the tour is over"), "close");
    }
  }
  kwind_client_free(client);
  kwind_value_free(input);
  kwind_protocol_free(protocol);
  return 0;
}
