#!/usr/bin/env bash
# Windows and arm64 build the library, the examples and the tests, but not the tool with its components. Configures such a
# build, so that whatever links a component says so.
#   without_tool.sh COMPILER
set -u
cd "$(dirname "$0")/../.." || exit 2
folder=$(mktemp -d)
trap 'rm -rf "$folder"' EXIT
cmake -S . -B "$folder/build" -DCMAKE_CXX_COMPILER="$1" -DKWIND_TOOL=OFF -DKWIND_EXAMPLES=ON -DKWIND_TESTS=ON >"$folder/log" 2>&1 || {
  cat "$folder/log"
  echo "a build without the tool cannot be configured"
  exit 1
}
