#!/usr/bin/env bash
# Random descriptions with awkward names: generated, compiled with both compilers, and compared with the runtime codec.
# sweep.sh BUILD FIRST COUNT [MESSAGES [BATCH]]: COUNT seeds from FIRST on, with so many messages each (12); BATCH of
# them (10) are compiled as one source. BUILD is a build folder with tests.
set -euo pipefail
build=$(realpath "$1") first=$2 count=$3
source=$(realpath "$(dirname "$0")/../..")
into=$(mktemp -d)
trap 'rm -rf "$into"' EXIT
messages=${4:-12} batch=${5:-10} compiled=0
for ((from = first; from < first + count; from += batch)); do
  rm -rf "$into"/*
  touch "$into/taken"
  {
    echo '#include <gtest/gtest.h>'
    for ((seed = from; seed < from + batch && seed < first + count; ++seed)); do
      KWIND_SEED=$seed KWIND_MESSAGES=$messages KWIND_INTO=$into "$build/tests/properties_tests" --gtest_brief=1 \
        --gtest_filter=Generated.RandomDescriptionsAreThoseOfTheirSeeds >/dev/null
      # What a field declares may be called as a type: that is refused, and there is nothing to compile.
      "$build/tool/kwind" check "$into/random_$seed.kw" >/dev/null 2>&1 || { rm "$into/random_$seed.kw"; continue; }
      "$build/tool/kwind" gen "$into/random_$seed.kw" --cpp "$into" >/dev/null
      echo "#include \"random_$seed.h\""
      echo "$seed" >>"$into/taken"
    done
    echo '#include "properties/comparison.h"'
    for seed in $(cat "$into/taken"); do
      echo "TEST(Random, Seed$seed) { kwind::compare(\"$into/random_$seed.kw\", random_$seed::kProtocol,"
      echo "  [](const auto& visit) { random_$seed::visit_messages(visit); }); }"
    done
  } >"$into/batch.cpp"
  compiled=$((compiled + $(wc -l <"$into/taken")))
  for compiler in g++ clang++-14; do
    command -v "$compiler" >/dev/null || continue
    "$compiler" -std=c++20 -O0 -Wall -Wextra -Wpedantic -Wshadow -Werror -DFMT_SHARED -DKWIND_SOURCE_DIR='""' -I"$into" \
      -I"$source/tests" -I"$source/include" -isystem /usr/include/eigen3 "$into/batch.cpp" -o "$into/batch" \
      "$build"/libkwind_{language,json,schema,bits,core}.a -lgtest -lgtest_main -lfmt -lsodium || {
      echo "seeds $from to $((from + batch - 1)) do not compile with $compiler" >&2
      exit 1
    }
    "$into/batch" --gtest_brief=1 >"$into/log" || { cat "$into/log" >&2; exit 1; }
  done
done
echo "random descriptions: $compiled of $count compile with both compilers and equal the runtime codec"
