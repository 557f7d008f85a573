#!/usr/bin/env bash
# Protocol code reads no clock, opens no socket, draws no randomness and prints nothing: its objects may
# not even name the functions that do. Usage: symbols.sh LIBRARY...
set -u
wrong=0
for library in "$@"; do
  [ -f "$library" ] || { echo "no library $library"; exit 2; }
  found=$(nm -uC "$library" | grep -E ' U (.*steady_clock::now|.*system_clock::now|clock_gettime|gettimeofday|time|socket|sendto|recvfrom|sendmmsg|recvmmsg|poll|getrandom|rand|random|randombytes.*|std::random_device.*|.*vprint.*|printf|puts|fopen|fwrite|fputs|std::cout|std::cerr|nanosleep|usleep|write|read|open)(@|\(|$)')
  if [ -n "$found" ]; then echo "$library names:"; echo "$found"; wrong=1; fi
done
exit $wrong
