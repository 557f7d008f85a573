#!/usr/bin/env bash
# Builds the Debian packages twice, compares and checks them, then installs, uses and removes them in a clean root.
# Run by ./dev package, as root: a root of its own needs chroot.
#   package.sh [try]    try: only the second half, with the packages that are there
set -euo pipefail
cd "$(dirname "$(readlink -f "$0")")/.."
root=""
finish() {
  [ -n "$root" ] || return 0
  umount "$root/proc" 2>/dev/null || true
  rm -rf --one-file-system "$root"
}
trap finish EXIT
say() { printf '%s\n' "$*" >&2; }
quiet() {  # quiet LOG COMMAND...: the log only if it fails
  local log=$1
  shift
  "$@" >"$log" 2>&1 || { tail -50 "$log" >&2; say "failed: $*"; exit 1; }
}

SOURCE_DATE_EPOCH=$(git log -1 --format=%ct)
export SOURCE_DATE_EPOCH
# With a base directory ccache makes paths relative, and those are what asserts name: such a build differs from others.
unset CCACHE_BASEDIR CCACHE_NOHASHDIR
# What is built is the work tree as it is now: both builds take long, and somebody may go on editing.
rm -rf build/package-source
mkdir -p build/package-source
git ls-files -z | xargs -0 cp --parents -t build/package-source
top=$PWD
# build FOLDER: the packages, in FOLDER.
build() {
  (cd build/package-source && quiet "$top/$1.log" cmake --preset package -B "$top/$1")
  quiet "$1.log" cmake --build "$1" --target kwind_installed kwind kwind_manual
  rm -f "$1"/*.deb
  (cd "$1" && umask 022 && quiet "$top/build/cpack.log" cpack -G DEB)
}
mkdir -p build
if [ "${1:-}" != try ]; then
  say "building the packages"
  build build/package
  say "building them again, from nothing"
  rm -rf build/package-again
  CCACHE_DISABLE=1 build build/package-again
  for file in build/package/*.deb; do
    cmp "$file" "build/package-again/$(basename "$file")" || { say "two builds differ: $file"; exit 1; }
  done
  rm -rf build/package-again
  say "two builds give the same bytes: $(sha256sum build/package/*.deb | cut -c1-16 | tr '\n' ' ')"
fi
lintian --fail-on error,warning build/package/*.deb
say "lintian has neither errors nor warnings"

# A clean root, from the machine's own package sources.
root=$(mktemp -d)/root
sources=$(cat /etc/apt/sources.list /etc/apt/sources.list.d/*.sources 2>/dev/null || true)
mirror=$(sed -nE 's/^URIs: *([^ ]+).*/\1/p; s/^deb (\[[^]]*\] )?([^ ]+) bookworm main.*/\2/p' <<<"$sources" | head -1)
say "making a clean root"
quiet build/debootstrap.log debootstrap --variant=minbase bookworm "$root" "$mirror"
mount -t proc proc "$root/proc"
for file in /etc/apt/apt.conf /etc/apt/apt.conf.d /etc/resolv.conf; do
  [ ! -e "$file" ] || cp -rL "$file" "$root$(dirname "$file")/" 2>/dev/null || true
done
mkdir -p "$root/packages" "$root/source"
cp build/package/*.deb "$root/packages/"
cp -r examples tests "$root/source/"
inside() { chroot "$root" env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/root DEBIAN_FRONTEND=noninteractive "$@"; }
quiet build/root.log inside apt-get update
quiet build/root.log inside sh -c 'apt-get install -y --no-install-recommends /packages/kwind_*.deb'
say "installed: $(inside kwind --version)"
inside sh -c 'kwind check /source/examples/first_light/harbour.kw >/dev/null && kwind demo --seconds 5 --bots 3 >/dev/null'
say "the tool runs in it"
quiet build/root.log inside sh -c 'apt-get install -y --no-install-recommends /packages/lib*.deb nlohmann-json3-dev libssl-dev \
  g++ cmake ninja-build make pkg-config python3-minimal libpython3-stdlib'
inside /source/tests/install/run.sh --installed /usr cmake_package static_library components makefile c python wrong >&2
quiet build/root.log inside apt-get purge -y kwind libkwind-dev libkwind0
left=$(cd "$root" && find . -xdev -path ./proc -prune -o -name '*kwind*' -print | grep -vE '^./(packages|source|var/(cache|lib/apt|lib/dpkg/info|log))' || true)
[ -z "$left" ] || { say "removing leaves: $left"; exit 1; }
say "used and removed: nothing is left. Packages: build/package/*.deb"
