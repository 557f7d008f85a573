#!/usr/bin/env bash
# arm64: cross-compiles, and runs the tests of bits, link and replica under qemu-user. Run by ./dev arm64.
set -euo pipefail
cd "$(dirname "$(readlink -f "$0")")/.."
say() { printf '%s\n' "$*" >&2; }
quiet() {
  local log=$1
  shift
  "$@" >"$log" 2>&1 || { tail -50 "$log" >&2; say "failed: $*"; exit 1; }
}
mkdir -p build
say "libsodium for arm64, from Debian's source package"
quiet build/arm64-libraries.log packaging/cross.sh aarch64-linux-gnu build/arm64-libraries
say "compiling"
quiet build/arm64.log cmake --preset arm64
quiet build/arm64.log cmake --build build/arm64 --target bits_tests link_tests replica_tests first_light_client
# Tests of time are of the machine, not of the system that is emulated on it.
for tests in bits_tests link_tests replica_tests; do
  say "under qemu: $tests"
  quiet "build/arm64-$tests.log" qemu-aarch64 "build/arm64/tests/$tests" --gtest_brief=1 --gtest_filter='*-*Death*'
  grep -E 'tests? ran|PASSED' "build/arm64-$tests.log" >&2
done
