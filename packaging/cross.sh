#!/usr/bin/env bash
# What the library needs to be built for another system: libsodium, compiled from Debian's source package, and the
# headers of what is headers only. From the machine's own package sources; no address is written here.
#   cross.sh HOST FOLDER      HOST as compilers are called: x86_64-w64-mingw32, aarch64-linux-gnu
set -euo pipefail
host=$1
prefix=$(mkdir -p "$2" && readlink -f "$2")
[ ! -f "$prefix/lib/libsodium.a" ] || exit 0

work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir -p "$work/sources" "$work/lists/partial"
# The same sources as the machine's, for source packages.
for file in /etc/apt/sources.list /etc/apt/sources.list.d/*.list; do
  [ -f "$file" ] && grep -E '^deb .*debian' "$file" | sed 's/^deb /deb-src /' >>"$work/sources/sources.list" || true
done
for file in /etc/apt/sources.list.d/*.sources; do
  [ -f "$file" ] && grep -q 'debian-archive-keyring\|Suites: *bookworm' "$file" &&
    sed 's/^Types:.*/Types: deb-src/' "$file" >"$work/sources/$(basename "$file")" || true
done
apt=(-o "Dir::Etc::sourcelist=$work/sources/sources.list" -o "Dir::Etc::sourceparts=$work/sources"
  -o "Dir::State::lists=$work/lists" -o APT::Get::List-Cleanup=0)
apt-get "${apt[@]}" update -qq
cd "$work"
apt-get "${apt[@]}" source -qq libsodium
cd "$work"/libsodium-*/
autoreconf -fi
./configure --host="$host" --prefix="$prefix" --disable-shared --disable-dependency-tracking --with-pic
make -j "$(nproc)" install

mkdir -p "$prefix/include"
cp -r /usr/include/fmt /usr/include/tl "$prefix/include/"
cp -r /usr/include/eigen3/Eigen "$prefix/include/"
