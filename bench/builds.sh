#!/usr/bin/env bash
# What a description of 300 messages costs a build: ten sources that include all of it, ten that include one message each,
# and what is built again after one message changed. Usage: builds.sh KWIND (run by `./dev bench`)
# CCACHE_DISABLE: a cache would hide what compiling costs.
set -euo pipefail
kwind=$(readlink -f "$1")
source=$(cd "$(dirname "$0")/.." && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
export CCACHE_DISABLE=1

# describe FILE MESSAGES
describe() {
  {
    echo "protocol big 1"
    echo "quantity Place = real -1024..<1024 step 1/16 in metres"
    echo "record Spot { x : Place, y : Place }"
    echo "enum Cargo { empty, salt, timber, fish }"
    echo "channel state sequenced"
    for i in $(seq "$2"); do
      echo "# What number $i says."
      echo "message Word$i from both on state {"
      echo "  at : Spot, bearing : turn step 0.5, cargo : Cargo, name : text 20"
      echo "  loads : list of int 0..100 up to 8, lit : bool, number : int 0..$((i + 10))"
      echo "}"
    done
  } >"$1"
}
seconds() { # seconds COMMAND...
  local start end
  start=$(date +%s.%N)
  "$@" >"$work/log" 2>&1 || { cat "$work/log" >&2; exit 1; }
  end=$(date +%s.%N)
  echo "$start $end" | awk '{ printf "%.2f", $2 - $1 }'
}
compiled() { grep -c 'Building CXX object.*\.cpp\.o' "$work/log" || true; }

# CPU seconds, user and system, of COMMAND and all that it starts.
cpu_seconds() {
  local before after
  before=$(awk '{ print $16 + $17 }' /proc/$$/stat)
  "$@" >"$work/log" 2>&1 || { cat "$work/log" >&2; exit 1; }
  after=$(awk '{ print $16 + $17 }' /proc/$$/stat)
  echo "$before $after $(getconf CLK_TCK)" | awk '{ printf "%.1f", ($2 - $1) / $3 }'
}
# A clean build of the tool beside one source that parses JSON: a ratio that holds on any machine.
echo '#include <nlohmann/json.hpp>
int parsed(const std::string& text) { return nlohmann::json::parse(text)["a"].get<int>(); }' >"$work/json.cpp"
cmake -S "$source" --preset dev -B "$work/clean" -DKWIND_TESTS=OFF >"$work/log" 2>&1 || { cat "$work/log" >&2; exit 1; }
json=$(cpu_seconds g++ -std=c++20 -O2 -g -c "$work/json.cpp" -o "$work/json.o")
whole=$(cpu_seconds cmake --build "$work/clean" --target kwind)
json=$(echo "$json $(cpu_seconds g++ -std=c++20 -O2 -g -c "$work/json.cpp" -o "$work/json.o")" | awk '{ print ($1 + $2) / 2 }')
echo "clean build of kwind: $whole s of CPU, $(echo "$whole $json" | awk '{ printf "%.1f", $1 / $2 }') times one source that parses JSON ($json s)"
rm -rf "$work/clean"

describe "$work/thousand.kw" 1000
echo "kwind check of 1000 messages: $(seconds "$kwind" check "$work/thousand.kw") s"

mkdir "$work/game"
cd "$work/game"
describe big.kw 300
for i in $(seq 10); do
  echo '#include "big.h"
int all_'"$i"'() { return int(big::kProtocol.messages.size()); }' >"all_$i.cpp"
  echo '#include "big/word'"$i"'.h"
#include "kwind/schema/codec.h"
bool one_'"$i"'(std::span<std::byte> to) {
  return kwind::schema::encode_message(big::Word'"$i"'{}, to).has_value();
}' >"one_$i.cpp"
done
cat >CMakeLists.txt <<EOF
cmake_minimum_required(VERSION 3.25)
project(game CXX)
set(KWIND_TESTS OFF)
set(KWIND_TOOL OFF)
add_subdirectory($source kwind EXCLUDE_FROM_ALL)
add_library(whole OBJECT $(printf 'all_%d.cpp ' $(seq 10)))
target_link_libraries(whole PRIVATE kwind::schema)
kwind_generate(whole big.kw)
add_library(single OBJECT $(printf 'one_%d.cpp ' $(seq 10)))
target_link_libraries(single PRIVATE kwind::schema)
kwind_generate(single big.kw)
EOF
cmake -G Ninja -B build -DCMAKE_BUILD_TYPE=Release >"$work/log" 2>&1 || { cat "$work/log" >&2; exit 1; }
cmake --build build --target kwind_codegen >"$work/log" 2>&1 || { cat "$work/log" >&2; exit 1; }
echo "headers and ten sources that include all 300 messages, -O3, two at a time: $(seconds cmake --build build --target whole -j2) s, $(compiled) compiled"
echo "ten sources with one message each: $(seconds cmake --build build --target single -j2) s, $(compiled) compiled"
sed -i 's/number : int 0\.\.17$/number : int 0..1017/' big.kw
echo "after a range of message 7 changed, of those ten: $(seconds cmake --build build --target single -j2) s, $(compiled) compiled ($(grep -o 'one_[0-9]*\.cpp' "$work/log" | sort -u | tr '\n' ' '))"
echo "and of those with all messages: $(seconds cmake --build build --target whole -j2) s, $(compiled) compiled"
