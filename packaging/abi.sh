#!/usr/bin/env bash
# Compares the binary interface of the shared library with that of an earlier revision. Run by ./dev abi [REVISION].
set -euo pipefail
cd "$(dirname "$(readlink -f "$0")")/.."
say() { printf '%s\n' "$*" >&2; }
revision=${1:-$(git describe --tags --abbrev=0 --match 'v*' 2>/dev/null || true)}
if [ -z "$revision" ]; then
  say "there is no tag v* to compare with; name a revision: ./dev abi REVISION"
  exit 2
fi
git rev-parse --verify -q "$revision^{commit}" >/dev/null || { say "there is no revision $revision"; exit 2; }
git cat-file -e "$revision:cmake/Install.cmake" 2>/dev/null ||
  { say "$revision has no shared library: it is older than cmake/Install.cmake"; exit 2; }
work=$(mktemp -d)
trap 'git worktree remove --force "$work/old" 2>/dev/null || true; rm -rf "$work"' EXIT
git worktree add -q --detach "$work/old" "$revision"
# build SOURCE FOLDER: with debug information, from which types are read.
build() {
  cmake -S "$1" -B "$2" -G Ninja -DCMAKE_BUILD_TYPE=Debug -DCMAKE_CXX_FLAGS_DEBUG="-O1 -g" -DKWIND_TOOL=OFF -DKWIND_TESTS=OFF \
    -DCMAKE_UNITY_BUILD=ON -DCMAKE_CXX_COMPILER_LAUNCHER=ccache >"$work/log" 2>&1 &&
    cmake --build "$2" --target kwind_shared >>"$work/log" 2>&1 || { tail -30 "$work/log" >&2; exit 1; }
}
say "building the library of $revision"
build "$work/old" "$work/old-build"
say "building that of the work tree"
build "$PWD" "$work/new-build"
code=0
abidiff --suppressions packaging/abi_internals --headers-dir1 "$work/old/include" --headers-dir2 include "$work/old-build/library/libkwind.so" \
  "$work/new-build/library/libkwind.so" || code=$?
# abidiff(1): 4 says that something changed, 8 that a program can break by it.
if [ $((code & 8)) != 0 ]; then
  old=$(objdump -p "$work/old-build/library/libkwind.so" | sed -nE 's/ *SONAME *//p')
  new=$(objdump -p "$work/new-build/library/libkwind.so" | sed -nE 's/ *SONAME *//p')
  [ "$old" != "$new" ] || { say "programs that were linked to $revision can break, and the SONAME is still $new"; exit 1; }
fi
[ $((code & 3)) = 0 ] || exit "$code"
say "programs that were linked to $revision go on"
