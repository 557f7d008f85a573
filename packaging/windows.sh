#!/usr/bin/env bash
# Windows: compiles with mingw, runs tests and programs under Wine, and packs kwind-windows.zip. Run by ./dev windows.
#   windows.sh [MINUTES]    how long a Windows and a Linux client sail in one harbour at the end; default 1
set -euo pipefail
cd "$(dirname "$(readlink -f "$0")")/.."
minutes=${1:-1}
say() { printf '%s\n' "$*" >&2; }
quiet() {
  local log=$1
  shift
  "$@" >"$log" 2>&1 || { tail -50 "$log" >&2; say "failed: $*"; exit 1; }
}
work=$(mktemp -d)
jobs_started=()
finish() {
  for job in "${jobs_started[@]}"; do kill "$job" 2>/dev/null || true; done
  WINEPREFIX=$PWD/build/wine wineserver -k 2>/dev/null || true
  rm -rf "$work"
}
trap finish EXIT
export WINEPREFIX=$PWD/build/wine WINEDEBUG=-all
mkdir -p build

say "libsodium for Windows, from Debian's source package"
quiet build/windows-libraries.log packaging/cross.sh x86_64-w64-mingw32 build/windows-libraries
say "compiling"
quiet build/windows.log cmake --preset windows
quiet build/windows.log cmake --build build/windows --target kwind_shared kwind_static kwind_codegen first_light_client \
  first_light_server harbour_pilot c_tug c_tug_server bits_tests link_tests io_tests c_tests c_compare
needed=$(x86_64-w64-mingw32-objdump -p build/windows/libkwind.dll | sed -nE 's/.*DLL Name: (.*)\.dll/\1/pi' | tr 'A-Z\n' 'a-z ')
case " $needed" in *libstdc*|*libgcc*|*libwinpthread*|*sodium*) say "libkwind.dll needs $needed"; exit 1 ;; esac

# Crash tests of asserts are no matter of the system; what the others print is kept.
for tests in "bits_tests *-*Death*" "link_tests *-*Death*" "io_tests Udp*:Tcp*:*Waker*-*Death*" "c_tests *-*TwoThreads*"; do
  say "under Wine: ${tests%% *}"
  quiet "build/windows-${tests%% *}.log" wine "build/windows/tests/${tests%% *}.exe" --gtest_brief=1 --gtest_filter="${tests#* }"
  grep -E 'tests? ran|PASSED' "build/windows-${tests%% *}.log" >&2
done

# serve COMMAND...: a Linux server; sets $address and $key.
serve() {
  : >"$work/server"  # what the last one said is gone before anybody looks
  "$@" >"$work/server" 2>&1 &
  jobs_started+=($!)
  for _ in $(seq 100); do
    grep -q listening "$work/server" && break
    sleep 0.05
  done
  read -r _ _ address key <"$work/server"
}
say "a Windows and a Linux client of a Linux server"
serve build/dev/examples/first_light_server 0
wine build/windows/examples/first_light_client.exe "$address" "$key" 4 >"$work/windows" 2>&1 &
other=$!
quiet "$work/linux" build/dev/examples/first_light_client "$address" "$key" 4
wait "$other" || { cat "$work/windows" >&2; say "the Windows client failed"; exit 1; }
grep -q 'is at' "$work/windows" && grep -q 'is at' "$work/linux" || { cat "$work/windows" "$work/linux" >&2; say "they do not see each other"; exit 1; }

say "a Windows and a Linux bot of a Linux harbour"
serve build/dev/examples/harbour_server 0 "$work/pilots"
address=${address%;}
wine build/windows/examples/harbour_pilot.exe "$address" Tern 4 >"$work/windows" 2>&1 &
other=$!
quiet "$work/linux" build/dev/examples/harbour_pilot "$address" Plover 4
wait "$other" || { cat "$work/windows" >&2; say "the Windows bot failed"; exit 1; }
grep -q 'Tern is at' "$work/windows" && grep -q 'Plover is at' "$work/linux" ||
  { cat "$work/windows" "$work/linux" >&2; say "no tug moved"; exit 1; }

say "the DLL by its name, as another compiler's program loads it"
x86_64-w64-mingw32-gcc -static -O1 -o "$work/by_name.exe" tests/install/windows/by_name.c
cp build/windows/libkwind.dll "$work/"
(cd "$work" && quiet by_name.log wine by_name.exe) && cat "$work/by_name.log" >&2

say "two clients in one world for $minutes min at 2 % loss, all values compared"
tests/install/windows/compare.sh build/dev build/windows "$minutes" >&2

say "packing"
rm -rf build/windows/kwind-windows build/windows/kwind-windows.zip
pack=build/windows/kwind-windows
mkdir -p "$pack"/{bin,lib,examples}
cp -r include "$pack/"
rm -rf "$pack/include/kwind/"{json,ticket,capture,budget}
cp build/windows/libkwind.dll build/windows/tool/kwind_codegen.exe "$pack/bin/"
cp build/windows/library/libkwind.a build/windows/library/libkwind.dll.a build/windows-libraries/lib/libsodium.a "$pack/lib/"
cp build/windows/examples/c_tug.exe build/windows/examples/c_tug_server.exe examples/c_tug/* build/windows/examples/c_tug_c_kw/towage_c.h "$pack/examples/"
cp docs/c.md LICENSE packaging/debian/copyright "$pack/"
x86_64-w64-mingw32-strip "$pack"/bin/* "$pack"/examples/*.exe
(cd build/windows && quiet zip.log zip -qr kwind-windows.zip kwind-windows)
say "build/windows/kwind-windows.zip: $(du -h build/windows/kwind-windows.zip | cut -f1), the DLL $(du -h "$pack/bin/libkwind.dll" | cut -f1)"
