#!/usr/bin/env python3
"""A pilot of examples/c_tug in Python: the standard library alone, on the C interface through ctypes.

Usage: tug.py LIBRARY TOWAGE_KW HOST:PORT KEY SECONDS. Prints one line of JSON about what it saw.
"""
import ctypes
import json
import sys
import time

OK, EMPTY = 0, -9
CONNECTED, DISCONNECTED, MESSAGE, SPAWNED, UPDATED = 1, 2, 5, 10, 11


class Source(ctypes.Structure):
    _fields_ = [("name", ctypes.c_char_p), ("text", ctypes.c_char_p)]


class Ref(ctypes.Structure):
    _fields_ = [("id", ctypes.c_uint32), ("generation", ctypes.c_uint8)]


class ClientOptions(ctypes.Structure):
    _fields_ = [("size", ctypes.c_uint32), ("tick_rate", ctypes.c_uint32), ("server", ctypes.c_char_p),
                ("server_key", ctypes.c_char_p), ("ticket", ctypes.c_char_p), ("plaintext", ctypes.c_uint32),
                ("tcp_after_udp", ctypes.c_uint32), ("only_once", ctypes.c_uint32), ("idle_timeout_ms", ctypes.c_uint32)]


class Event(ctypes.Structure):
    _fields_ = [("size", ctypes.c_uint32), ("event", ctypes.c_uint32), ("peer", ctypes.c_uint32),
                ("tick", ctypes.c_uint32), ("request", ctypes.c_uint64), ("entity", Ref), ("result", ctypes.c_int32),
                ("outcome", ctypes.c_uint32), ("type", ctypes.c_char_p), ("value", ctypes.c_void_p),
                ("text", ctypes.c_char_p), ("words", ctypes.c_char_p)]


def main():
    library, description, address, key, seconds = sys.argv[1:6]
    kwind = ctypes.CDLL(library)
    kwind.kwind_last_error.restype = ctypes.c_char_p

    def check(result):
        if result != OK:
            raise RuntimeError(kwind.kwind_last_error().decode())

    def new_value(name):
        value = ctypes.c_void_p()
        check(kwind.kwind_value_new(protocol, name, ctypes.byref(value)))
        return value

    def real(value, path):
        out = ctypes.c_double()
        check(kwind.kwind_value_get_real(value, path, ctypes.byref(out)))
        return out.value

    with open(description, "rb") as file:
        source = Source(b"towage.kw", file.read())
    protocol = ctypes.c_void_p()
    check(kwind.kwind_protocol_compile(ctypes.byref(source), ctypes.c_size_t(1), ctypes.byref(protocol)))
    options = ClientOptions(size=ctypes.sizeof(ClientOptions), tick_rate=20, server=address.encode(),
                            server_key=key.encode(), only_once=1)
    client = ctypes.c_void_p()
    check(kwind.kwind_client_open(protocol, ctypes.byref(options), ctypes.byref(client)))
    helm, hail, tug = new_value(b"Helm"), new_value(b"Hail"), new_value(b"Tug")
    check(kwind.kwind_value_set_int(helm, b"throttle", ctypes.c_int64(100)))
    check(kwind.kwind_value_set_text(hail, b"words", b"ahoy from Python", ctypes.c_size_t(16)))

    event = Event(size=ctypes.sizeof(Event))
    seen = {"spawned": 0, "updated": 0, "notices": [], "own": None, "tugs": 0}
    start = time.monotonic()
    next_input = start
    ended = False
    while not ended and time.monotonic() < start + float(seconds) + 5:
        check(kwind.kwind_client_step(client, 10))
        while kwind.kwind_client_next_event(client, ctypes.byref(event)) == OK:
            if event.event == CONNECTED:
                check(kwind.kwind_client_send(client, hail))
            elif event.event == MESSAGE:
                words, size = ctypes.c_char_p(), ctypes.c_size_t()
                check(kwind.kwind_value_get_text(ctypes.c_void_p(event.value), b"words", ctypes.byref(words),
                                                 ctypes.byref(size)))
                seen["notices"].append(words.value.decode())
            elif event.event == SPAWNED:
                seen["spawned"] += 1
                seen["tugs"] += event.type == b"Tug"
            elif event.event == UPDATED:
                seen["updated"] += 1
                own = ctypes.c_int()
                if kwind.kwind_client_owns(client, event.entity, ctypes.byref(own)) == OK and own.value:
                    check(kwind.kwind_client_get(client, event.entity, tug))
                    seen["own"] = [real(tug, b"at[0]"), real(tug, b"at[1]")]
            elif event.event == DISCONNECTED:
                ended = True
        now = time.monotonic()
        if kwind.kwind_client_connected(client):
            if now >= next_input:
                next_input += 0.05
                check(kwind.kwind_client_input(client, helm, None))
            if now >= start + float(seconds):
                check(kwind.kwind_client_close(client, b"the tour is over"))
    # A mistake is told, and is no crash.
    assert kwind.kwind_value_set_int(helm, b"rudder", ctypes.c_int64(1)) == -7
    seen["mistake"] = kwind.kwind_last_error().decode()
    for value in (helm, hail, tug):
        kwind.kwind_value_free(value)
    kwind.kwind_client_free(client)
    kwind.kwind_protocol_free(protocol)
    print(json.dumps(seen))


main()
