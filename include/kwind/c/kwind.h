/* Kestrel Wind for C, and for every language that can call C: a server or a client of a description that is
 * read at run time, or compiled into C structs by `kwind gen --c`.
 *
 *   while (running) {
 *     kwind_client_step(client, 20);                       // sends what is queued, waits, receives
 *     while (kwind_client_next_event(client, &event) == KWIND_OK) { ... }
 *   }
 *
 * Events are polled: the library calls no function of the program.
 *
 * Results. Functions return a kwind_result: KWIND_OK, a positive number of an error of the protocol (docs/errors.md),
 * or a negative KWIND_E_ number for a mistake of the caller. kwind_last_error() has the sentence. After an error nothing
 * has changed unless the function says otherwise. No call aborts the process because of its arguments, and no C++
 * exception leaves the library.
 *
 * Handles. A pointer to one of the opaque types names an object of the library; it is not an address. NULL, a handle of
 * another type and a handle that was freed give KWIND_E_HANDLE. Freeing NULL does nothing.
 *
 * Structs with a member `size` can grow in later versions: set it to sizeof of the struct, as the KWIND_..._INIT macros
 * do. A size that this library does not know gives KWIND_E_SIZE. 0 in another member is its default.
 *
 * Texts that are passed in are UTF-8 and end with 0; texts that come out are too, and live as long as stated.
 *
 * Threads. Objects may be used from any thread, one call at a time for each object: a call while another thread is in a
 * call of the same object gives KWIND_E_BUSY. kwind_last_error() is of the calling thread. */
#ifndef KWIND_C_KWIND_H
#define KWIND_C_KWIND_H

#include <stddef.h>
#include <stdint.h>

#if !defined(_WIN32)
#define KWIND_C_API __attribute__((visibility("default")))
#elif defined(KWIND_BUILDS_LIBRARY)
#define KWIND_C_API __declspec(dllexport)
#elif defined(KWIND_STATIC)
#define KWIND_C_API
#else
#define KWIND_C_API __declspec(dllimport)
#endif

#ifdef __cplusplus
extern "C" {
#endif

/* ---- results ---- */

typedef int32_t kwind_result;

enum {
  KWIND_OK = 0,
  KWIND_E_HANDLE = -1,      /* NULL, freed, or of another type */
  KWIND_E_ARGUMENT = -2,    /* a pointer is NULL, or a number is outside its range */
  KWIND_E_SIZE = -3,        /* the `size` of a struct is unknown to this library */
  KWIND_E_BUSY = -4,        /* another thread is in a call of this object */
  KWIND_E_DESCRIPTION = -5, /* the description has errors, or lacks what is needed */
  KWIND_E_NAME = -6,        /* no message type, field, value or case has this name */
  KWIND_E_TYPE = -7,        /* the field has another type than the function is for */
  KWIND_E_LAYOUT = -8,      /* a kwind_layout does not fit the description */
  KWIND_E_EMPTY = -9,       /* there is no event, or nothing to show yet */
  KWIND_E_NO_ENTITY = -10,  /* no entity has this reference, here and now */
  KWIND_E_TOO_MANY = -11,   /* more than the description permits */
  KWIND_E_MEMORY = -12,     /* no memory was left */
  KWIND_E_INTERNAL = -13    /* a fault of the library's own; please report the text */
};

/* The library's version: "0.2.0". Lives for ever. */
KWIND_C_API const char* kwind_version(void);
/* The name of a result: "rate_limited", "KWIND_E_HANDLE". Lives for ever. */
KWIND_C_API const char* kwind_result_name(kwind_result result);
/* Why the last call of this thread that failed did: one sentence or, for a description, one paragraph for each error.
 * "" if none failed. Lives until the next call of this thread. */
KWIND_C_API const char* kwind_last_error(void);

/* Seconds on a clock that only goes forward: what step() goes by. */
KWIND_C_API double kwind_now(void);

/* ---- descriptions ---- */

typedef struct kwind_protocol kwind_protocol;

/* A file of a description. */
typedef struct kwind_source {
  const char* name; /* as `include` calls it: "harbour.kw" */
  const char* text; /* the whole file */
} kwind_source;

/* Compiles a description: sources[0], which may include the others. What `kwind gen --c` writes has such an array.
 * Errors: KWIND_E_DESCRIPTION. */
KWIND_C_API kwind_result kwind_protocol_compile(const kwind_source* sources, size_t count,
                                                kwind_protocol** out);
/* The protocol lives on as long as a server, client or value of it. */
KWIND_C_API void kwind_protocol_free(kwind_protocol* protocol);
/* Its name and newest version. The name lives as long as the protocol. */
KWIND_C_API const char* kwind_protocol_name(const kwind_protocol* protocol);
KWIND_C_API uint32_t kwind_protocol_version(const kwind_protocol* protocol);

/* ---- entity references ---- */

/* An entity: id 0 is none. Ids are used again, with another generation. */
typedef struct kwind_ref {
  uint32_t id;        /* 1 to the description's `entities up to`; 0: none */
  uint8_t generation; /* differs between successive entities of one id */
} kwind_ref;

/* ---- values: the fields of a message, entity or record ---- */

typedef struct kwind_value kwind_value;

/* A value of the message type, entity type or record that is called `type`, with the defaults of its fields.
 * Errors: KWIND_E_NAME. */
KWIND_C_API kwind_result kwind_value_new(kwind_protocol* protocol, const char* type,
                                         kwind_value** out);
KWIND_C_API void kwind_value_free(kwind_value* value);
/* Sets all fields to their defaults. */
KWIND_C_API kwind_result kwind_value_reset(kwind_value* value);
/* What it is a value of: "Helm". Lives as long as the value does, and until it becomes one of another type. */
KWIND_C_API const char* kwind_value_type(const kwind_value* value);

/* A path names a field or a part of one: "rudder", "tugs[2].speed", "place[0]" (a component), "cargo.timber" (what a case
 * carries); through a `maybe` that is there the path goes on without a word of its own. Errors of all functions with a
 * path: KWIND_E_NAME, KWIND_E_TYPE. O(length of the path).
 *
 * Whether a number is in its range shows when it is sent: it is clamped and counted, see docs/guide/messages.md. */

/* bool (0 or 1), int, count, tick, peer, flags (bit i for the i-th flag), enum (place of the value). */
KWIND_C_API kwind_result kwind_value_set_int(kwind_value* value, const char* path, int64_t number);
KWIND_C_API kwind_result kwind_value_get_int(const kwind_value* value, const char* path,
                                             int64_t* out);
/* real, angle (degrees), f32, f64, and each component of vectors, directions and rotations (w x y z). */
KWIND_C_API kwind_result kwind_value_set_real(kwind_value* value, const char* path, double number);
KWIND_C_API kwind_result kwind_value_get_real(const kwind_value* value, const char* path,
                                              double* out);
/* text, bytes. What comes out lives until the value changes, and ends with a 0 that `size` does not count. */
KWIND_C_API kwind_result kwind_value_set_text(kwind_value* value, const char* path,
                                              const char* bytes, size_t size);
KWIND_C_API kwind_result kwind_value_get_text(const kwind_value* value, const char* path,
                                              const char** bytes, size_t* size);
/* enum, by the name of its value; the case of a `one of`. A case that was not there has the defaults of its fields. */
KWIND_C_API kwind_result kwind_value_set_name(kwind_value* value, const char* path,
                                              const char* name);
KWIND_C_API kwind_result kwind_value_get_name(const kwind_value* value, const char* path,
                                              const char** out);
KWIND_C_API kwind_result kwind_value_set_ref(kwind_value* value, const char* path,
                                             kwind_ref entity);
KWIND_C_API kwind_result kwind_value_get_ref(const kwind_value* value, const char* path,
                                             kwind_ref* out);
/* Items of a list, components, cells of a grid; of a `maybe` 0 or 1. New items have the defaults of their fields.
 * Errors: KWIND_E_TOO_MANY; KWIND_E_TYPE for what has a fixed number of items. */
KWIND_C_API kwind_result kwind_value_set_count(kwind_value* value, const char* path, size_t count);
KWIND_C_API kwind_result kwind_value_get_count(const kwind_value* value, const char* path,
                                               size_t* out);

/* ---- values as C structs ---- */

enum { KWIND_LAYOUT_VERSION = 1 };

typedef enum kwind_member_kind {
  KWIND_MEMBER_BOOL = 1, /* uint8_t */
  KWIND_MEMBER_INT,      /* int8_t to int64_t, by `width` */
  KWIND_MEMBER_UINT,     /* uint8_t to uint64_t, by `width`: int, count, tick, peer, flags */
  KWIND_MEMBER_REAL,     /* double: real, angle, f64 */
  KWIND_MEMBER_FLOAT,    /* float: f32 */
  KWIND_MEMBER_ENUM,     /* int32_t: the place of the value */
  KWIND_MEMBER_REF,      /* kwind_ref */
  KWIND_MEMBER_VECTOR,   /* double[limit]: directions and rotations */
  KWIND_MEMBER_TEXT,  /* uint32_t size, then char[limit + 1] at inner_offset, which ends with 0 */
  KWIND_MEMBER_BYTES, /* uint32_t size, then uint8_t[limit] at inner_offset */
  KWIND_MEMBER_ARRAY, /* T[limit]: vectors and grids */
  KWIND_MEMBER_LIST,  /* uint32_t count, then T[limit] at inner_offset */
  KWIND_MEMBER_MAYBE, /* uint8_t present, then T at inner_offset */
  KWIND_MEMBER_ONE_OF, /* int32_t case, then a union at inner_offset; `inner` has a member for each case */
  KWIND_MEMBER_RECORD, /* a struct; `inner` has its members */
  KWIND_MEMBER_NOTHING /* a case that carries nothing */
} kwind_member_kind;

/* Where a field lies in a C struct. `kwind gen --c` writes these tables. */
typedef struct kwind_member {
  const char* name;      /* of the field; "" for an item */
  uint16_t kind;         /* kwind_member_kind */
  uint16_t width;        /* bytes of an integer */
  uint32_t offset;       /* within the struct */
  uint32_t limit;        /* most items or bytes */
  uint32_t inner_offset; /* from `offset` to the items or bytes */
  uint32_t stride;       /* from item to item */
  uint32_t inner_count;  /* how many `inner` has */
  const struct kwind_member*
      inner; /* of an item, whose own offset is 0; or of the members of a struct */
} kwind_member;

/* A C struct of a message, an entity or a record. */
typedef struct kwind_layout {
  uint32_t version;            /* KWIND_LAYOUT_VERSION */
  uint32_t struct_size;        /* sizeof of the struct */
  const char* type;            /* of the message, entity or record: "Helm" */
  const kwind_member* members; /* in the order of the description's fields */
  uint32_t member_count;       /* how many */
} kwind_layout;

/* A value into a struct of this layout, and back. Errors: KWIND_E_LAYOUT, also if the value is of another type;
 * KWIND_E_ARGUMENT if a count, size or case in the struct is beyond its limit. O(size of the value). */
KWIND_C_API kwind_result kwind_value_to_struct(const kwind_value* value, const kwind_layout* layout,
                                               void* out);
KWIND_C_API kwind_result kwind_value_from_struct(kwind_value* value, const kwind_layout* layout,
                                                 const void* in);

/* ---- events ---- */

typedef enum kwind_event_type {
  /* server: `peer` is there; it may be gone by the time the event is read, and calls for it fail then with
   * no_such_peer. client: the server is there */
  KWIND_EVENT_CONNECTED = 1,
  KWIND_EVENT_DISCONNECTED, /* server: `peer` is gone. client: for good. `result` and `text` say why */
  KWIND_EVENT_RESUMED, /* server: `peer` came back as who it was, and has missed what was sent meanwhile */
  KWIND_EVENT_INTERRUPTED, /* client: the connection broke; the client tries again. `result` and `text` say why */
  KWIND_EVENT_MESSAGE, /* `value` came */
  KWIND_EVENT_REQUEST, /* the request `value` came; answer it once, by `request` */
  KWIND_EVENT_OUTCOME, /* of the request of this end that is called `request`; see kwind_outcome */
  KWIND_EVENT_INPUT,   /* server: an input of `peer`, at most one for each peer and tick */
  KWIND_EVENT_TICK, /* server: tick `tick` has its inputs; what is set before the next step() is its state */
  KWIND_EVENT_SPAWNED, /* client: `entity` of `type` came into view */
  KWIND_EVENT_UPDATED,
  KWIND_EVENT_DESPAWNED /* client: it despawned or left the view */
} kwind_event_type;

/* How a request ended. */
typedef enum kwind_outcome {
  KWIND_OUTCOME_REPLIED = 1, /* `value` is the reply */
  KWIND_OUTCOME_REFUSED,     /* `text` is the name of the reason; `words` are for people */
  KWIND_OUTCOME_TIMED_OUT,   /* no answer came in time */
  KWIND_OUTCOME_ABANDONED,   /* who was asked dropped the request without an answer */
  KWIND_OUTCOME_DISCONNECTED /* the connection ended first */
} kwind_outcome;

/* What happened. Members that an event has no use for are 0, NULL or "". What it points to lives until the next
 * next_event() or step() of the same object. */
typedef struct kwind_event {
  uint32_t size;            /* set it, or use KWIND_EVENT_INIT */
  uint32_t event;           /* kwind_event_type */
  uint32_t peer;            /* server: the number of the client, from 1, never used again */
  uint32_t tick;            /* KWIND_EVENT_TICK */
  uint64_t request;         /* KWIND_EVENT_REQUEST: to answer it; _OUTCOME: that was asked */
  kwind_ref entity;         /* KWIND_EVENT_SPAWNED, _UPDATED, _DESPAWNED */
  kwind_result result;      /* why a connection ended, or a request came to nothing */
  uint32_t outcome;         /* kwind_outcome */
  const char* type;         /* of `value`, the entity or the request of an outcome; or NULL */
  const kwind_value* value; /* or NULL; read it, do not free it */
  const char* text;         /* never NULL */
  const char* words;        /* never NULL */
} kwind_event;

#define KWIND_EVENT_INIT \
  { sizeof(kwind_event), 0, 0, 0, 0, {0, 0}, 0, 0, NULL, NULL, NULL, NULL }

/* ---- numbers ---- */

/* Of a connection, or of all connections of a server since its start. */
typedef struct kwind_stats {
  uint32_t size;               /* set it, or use KWIND_STATS_INIT */
  uint32_t connections;        /* that stand now */
  uint64_t datagrams_sent;     /* all of them, acknowledgements too */
  uint64_t datagrams_received; /* those that were accepted */
  uint64_t bytes_sent;         /* without IP and UDP headers */
  uint64_t bytes_received;     /* likewise */
  uint64_t packets_lost;       /* datagrams of this end that were declared lost (RFC 9002) */
  uint64_t dropped; /* datagrams and messages received and not accepted, whatever the cause */
  uint64_t values_out_of_range; /* in messages and entities of this end: clamped */
  double round_trip_seconds;    /* smoothed; client only */
  double loss;                  /* share of datagrams, 0 to 1; client only */
} kwind_stats;

#define KWIND_STATS_INIT \
  { sizeof(kwind_stats), 0, 0, 0, 0, 0, 0, 0, 0, 0, 0 }

/* ---- the server ---- */

typedef struct kwind_server kwind_server;

/* How a server is opened. Texts are copied. */
typedef struct kwind_server_options {
  uint32_t size;     /* set it, or use KWIND_SERVER_OPTIONS_INIT */
  uint32_t capacity; /* clients at once; 0: 64 */
  const char* const*
      listen;          /* "HOST:PORT", "udp:HOST:PORT", "tcp:HOST:PORT"; NULL: "127.0.0.1:4000" */
  size_t listen_count; /* how many `listen` has */
  const char* secret_key_file; /* as `kwind keys` writes it; NULL: a new key for each run */
  uint32_t plaintext;          /* 1: not encrypted, on loopback addresses only, for development */
  uint32_t
      resume_seconds; /* how long a client whose connection broke may come back as the same peer; 0: not */
  uint32_t tick_rate;          /* ticks per second of the replicated world, 1 to 240; 0: no world */
  uint32_t datagrams_per_tick; /* of state for each client; 0: 2 */
  double
      view_enter; /* how near an entity is that comes into view; 0: all are, whatever their places */
  double view_leave;          /* how far one is that leaves it; at least view_enter */
  const char* position_field; /* of entities, by which they are near or far; NULL: "position" */
  const char* input; /* the message type that is an input, one per tick; NULL: there are none */
} kwind_server_options;

#define KWIND_SERVER_OPTIONS_INIT \
  { sizeof(kwind_server_options), 0, NULL, 0, NULL, 0, 0, 0, 0, 0, 0, NULL, NULL }

/* Listens at once. Errors: address_in_use, bad_address, no_permission, socket_failure, bad_key; KWIND_E_NAME for `input`,
 * KWIND_E_DESCRIPTION for a world without entities. */
KWIND_C_API kwind_result kwind_server_open(kwind_protocol* protocol,
                                           const kwind_server_options* options, kwind_server** out);
/* Ends all connections without a word; kwind_server_close_all() sends clients the reason. */
KWIND_C_API void kwind_server_free(kwind_server* server);

/* Sends what is queued and ends the tick, waits until something arrives or is due, for `wait_ms` at most, receives, and
 * begins the next tick if it is due. While more than 65,536 events wait, nothing is received. */
KWIND_C_API kwind_result kwind_server_step(kwind_server* server, uint32_t wait_ms);
/* Ends the wait of a step() in another thread. The one function that may be called while another thread is in a call. */
KWIND_C_API kwind_result kwind_server_wake(kwind_server* server);
/* Takes the oldest event. Errors: KWIND_E_EMPTY. */
KWIND_C_API kwind_result kwind_server_next_event(kwind_server* server, kwind_event* out);

/* "127.0.0.1:4000", with the port that the system chose; and the key that clients need. Live as long as the server. */
KWIND_C_API kwind_result kwind_server_address(kwind_server* server, size_t index, const char** out);
KWIND_C_API kwind_result kwind_server_public_key(kwind_server* server, const char** out);
/* The small number of a peer, 1 to capacity, that `peer` fields hold. Errors: no_such_peer. */
KWIND_C_API kwind_result kwind_server_slot(kwind_server* server, uint32_t peer, uint32_t* out);

/* Queues a message for one peer. Errors: no_such_peer, rate_limited, queue_full, closed, unknown_to_peer,
 * message_too_large; KWIND_E_TYPE if the value is no message that a server sends. */
KWIND_C_API kwind_result kwind_server_send(kwind_server* server, uint32_t peer,
                                           const kwind_value* message);
/* For all peers but one, or all if `left_out` is 0; for those in a room. `sent`, if not NULL, gets for how many. */
KWIND_C_API kwind_result kwind_server_send_all(kwind_server* server, uint32_t left_out,
                                               const kwind_value* message, size_t* sent);
KWIND_C_API kwind_result kwind_server_send_room(kwind_server* server, const char* room,
                                                uint32_t left_out, const kwind_value* message,
                                                size_t* sent);
/* Rooms are made by the first who enters. A peer that is gone is in none. Errors: no_such_peer. */
KWIND_C_API kwind_result kwind_server_enter_room(kwind_server* server, uint32_t peer,
                                                 const char* room);
KWIND_C_API kwind_result kwind_server_leave_room(kwind_server* server, uint32_t peer,
                                                 const char* room);

/* Answers a request with a value of the record TYPEReply: "TakeTowReply". Errors: no_such_peer, stray_answer. */
KWIND_C_API kwind_result kwind_server_reply(kwind_server* server, uint64_t request,
                                            const kwind_value* reply);
/* Refuses it with the name of a reason, and words for people that may be NULL. Errors: as reply; KWIND_E_NAME. */
KWIND_C_API kwind_result kwind_server_refuse(kwind_server* server, uint64_t request,
                                             const char* reason, const char* words);
/* Asks a peer. `request` gets the number that the outcome's event will have. Errors: those of send,
 * too_many_requests. */
KWIND_C_API kwind_result kwind_server_request(kwind_server* server, uint32_t peer,
                                              const kwind_value* message, uint32_t timeout_ms,
                                              uint64_t* request);

/* Closes after reliable and ordered messages were delivered. Keep stepping. */
KWIND_C_API kwind_result kwind_server_close(kwind_server* server, uint32_t peer,
                                            const char* reason);
KWIND_C_API kwind_result kwind_server_close_all(kwind_server* server, const char* reason);
KWIND_C_API kwind_result kwind_server_stats(kwind_server* server, kwind_stats* out);

/* The replicated world. Errors of all: KWIND_E_DESCRIPTION if the server was opened without a tick rate. */

/* A new entity. Errors: KWIND_E_TOO_MANY; KWIND_E_TYPE if the value is no entity. */
KWIND_C_API kwind_result kwind_server_spawn(kwind_server* server, const kwind_value* entity,
                                            kwind_ref* out);
/* Its state from this tick on. Errors: KWIND_E_NO_ENTITY, KWIND_E_TYPE. */
KWIND_C_API kwind_result kwind_server_set(kwind_server* server, kwind_ref entity,
                                          const kwind_value* state);
KWIND_C_API kwind_result kwind_server_despawn(kwind_server* server, kwind_ref entity);
/* Only clients in that room see the entity from now on; `room` NULL: all do. An entity is in one room at most.
   Errors: KWIND_E_NO_ENTITY. */
KWIND_C_API kwind_result kwind_server_put_in_room(kwind_server* server, kwind_ref entity,
                                                  const char* room);
/* The peer views from the position of the entity, and owns it. Errors: no_such_peer. */
KWIND_C_API kwind_result kwind_server_follow(kwind_server* server, uint32_t peer, kwind_ref entity);
/* The peer views from a fixed position. */
KWIND_C_API kwind_result kwind_server_set_origin(kwind_server* server, uint32_t peer, double x,
                                                 double y, double z);
/* Who owns an entity gets its `owner only` fields, and may send messages `from owner of` it. */
KWIND_C_API kwind_result kwind_server_set_owned(kwind_server* server, uint32_t peer,
                                                kwind_ref entity, int owned);

/* ---- the client ---- */

typedef struct kwind_client kwind_client;

/* How a client is opened. Texts are copied. */
typedef struct kwind_client_options {
  uint32_t size;      /* set it, or use KWIND_CLIENT_OPTIONS_INIT */
  uint32_t tick_rate; /* of the server's world; 0: no world */
  const char* server; /* "HOST:PORT" */
  const char*
      server_key;     /* the server's public key, or a file with it; NULL with `plaintext` only */
  const char* ticket; /* from the login; NULL: none. See kwind_client_set_ticket() */
  uint32_t plaintext; /* 1: not encrypted, on loopback addresses only, for development */
  uint32_t tcp_after_udp;   /* 1: TCP is tried where UDP gets no answer within two seconds */
  uint32_t only_once;       /* 1: the first end is the end */
  uint32_t idle_timeout_ms; /* without a sign of the server the connection ends; 0: 10,000 */
} kwind_client_options;

#define KWIND_CLIENT_OPTIONS_INIT \
  { sizeof(kwind_client_options), 0, NULL, NULL, NULL, 0, 0, 0, 0 }

/* Begins to connect with the first step. A connection that breaks is resumed or made anew, with exponential back-off.
 * Blocks while a host name is resolved. Errors: bad_address, bad_key, socket_failure; KWIND_E_DESCRIPTION for a world
 * without entities. */
KWIND_C_API kwind_result kwind_client_open(kwind_protocol* protocol,
                                           const kwind_client_options* options, kwind_client** out);
KWIND_C_API void kwind_client_free(kwind_client* client);
/* For attempts from now on. */
KWIND_C_API kwind_result kwind_client_set_ticket(kwind_client* client, const char* ticket);

/* Sends what is queued, waits until something arrives or is due, for `wait_ms` at most, and receives. While more than
 * 65,536 events wait, nothing is received. */
KWIND_C_API kwind_result kwind_client_step(kwind_client* client, uint32_t wait_ms);
/* Takes the oldest event. Errors: KWIND_E_EMPTY. */
KWIND_C_API kwind_result kwind_client_next_event(kwind_client* client, kwind_event* out);
/* 1 while messages can be sent. */
KWIND_C_API int kwind_client_connected(const kwind_client* client);

/* As those of the server. */
KWIND_C_API kwind_result kwind_client_send(kwind_client* client, const kwind_value* message);
KWIND_C_API kwind_result kwind_client_request(kwind_client* client, const kwind_value* message,
                                              uint32_t timeout_ms, uint64_t* request);
KWIND_C_API kwind_result kwind_client_reply(kwind_client* client, uint64_t request,
                                            const kwind_value* reply);
KWIND_C_API kwind_result kwind_client_refuse(kwind_client* client, uint64_t request,
                                             const char* reason, const char* words);
/* Closes after reliable and ordered messages were delivered. Keep stepping until KWIND_EVENT_DISCONNECTED. */
KWIND_C_API kwind_result kwind_client_close(kwind_client* client, const char* reason);
KWIND_C_API kwind_result kwind_client_stats(kwind_client* client, kwind_stats* out);

/* The copy of the replicated world. Errors of all: KWIND_E_DESCRIPTION if the client was opened without a tick rate. */

/* Queues an input: it travels in the next datagrams, several times. `number`, if not NULL, gets its number, from 1.
 * Call it once per tick. Errors: closed; message_too_large beyond 64 bytes. */
KWIND_C_API kwind_result kwind_client_input(kwind_client* client, const kwind_value* input,
                                            uint32_t* number);
/* The number of the newest input that the newest snapshot contains; 0: none. */
KWIND_C_API kwind_result kwind_client_processed_input(kwind_client* client, uint32_t* out);
/* The newest tick that came, and the tick, with its fraction, that is to be drawn now. Errors: KWIND_E_EMPTY before the
 * first snapshot. */
KWIND_C_API kwind_result kwind_client_tick(kwind_client* client, uint32_t* newest, double* shown);
/* Writes the references of the entities in view, at most `capacity`, and how many there are. O(largest id). */
KWIND_C_API kwind_result kwind_client_entities(kwind_client* client, kwind_ref* out,
                                               size_t capacity, size_t* count);
/* The type of an entity: "Gull". Lives as long as the protocol. Errors: KWIND_E_NO_ENTITY. */
KWIND_C_API kwind_result kwind_client_entity_type(kwind_client* client, kwind_ref entity,
                                                  const char** out);
/* 1 if this client owns it. */
KWIND_C_API kwind_result kwind_client_owns(kwind_client* client, kwind_ref entity, int* out);
/* The tick whose state kwind_client_get() has; after a loss it may be older than the newest tick. Errors:
 * KWIND_E_NO_ENTITY. */
KWIND_C_API kwind_result kwind_client_state_tick(kwind_client* client, kwind_ref entity,
                                                 uint32_t* out);
/* The newest state that came. Makes `out` a value of the entity's type. Errors: KWIND_E_NO_ENTITY. */
KWIND_C_API kwind_result kwind_client_get(kwind_client* client, kwind_ref entity, kwind_value* out);
/* The state to draw at a tick, as kwind_client_tick() gives it: interpolated. Errors: KWIND_E_NO_ENTITY. */
KWIND_C_API kwind_result kwind_client_sample(kwind_client* client, kwind_ref entity, double tick,
                                             kwind_value* out);
/* The world position of an entity at a tick: the two or three coordinates of `field`; of an attached entity, whose
 * `field` is `relative to` a carrier, plus those of the carrier. `out` has room for three; the third is 0 on a plane.
 * Errors: KWIND_E_ARGUMENT if `field` is no position of this entity, KWIND_E_NO_ENTITY if the entity or a carrier is
 * not in view. O(carriers), at most eight. */
KWIND_C_API kwind_result kwind_client_position(kwind_client* client, kwind_ref entity, double tick,
                                               const char* field, double* out);
/* The same into a struct. Errors: KWIND_E_LAYOUT too. */
KWIND_C_API kwind_result kwind_client_get_struct(kwind_client* client, kwind_ref entity,
                                                 const kwind_layout* layout, void* out);
KWIND_C_API kwind_result kwind_client_sample_struct(kwind_client* client, kwind_ref entity,
                                                    double tick, const kwind_layout* layout,
                                                    void* out);

#ifdef __cplusplus
}
#endif

#endif
