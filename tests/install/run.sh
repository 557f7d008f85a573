#!/usr/bin/env bash
# Builds the projects of users beside this script against an installed Kestrel Wind, outside the tree, and runs
# what they made.
#   run.sh BUILD_FOLDER [PROJECT...]    installs from BUILD_FOLDER, into a prefix that is moved afterwards
#   run.sh --installed PREFIX [PROJECT...]    uses what is installed in PREFIX
# Projects: cmake_package static_library components makefile subdirectory c python wrong
set -euo pipefail
here=$(dirname "$(readlink -f "$0")")
source=$(readlink -f "$here/../..")
work=$(mktemp -d)
servers=()
finish() {
  for server in "${servers[@]}"; do kill "$server" 2>/dev/null || true; done
  rm -rf "$work"
}
trap finish EXIT

if [ "$1" = --installed ]; then
  prefix=$2
  shift 2
else
  build=$(readlink -f "$1")
  shift
  cmake --install "$build" --prefix "$work/first" >"$work/install.log" || { cat "$work/install.log"; exit 1; }
  prefix=$work/moved
  mv "$work/first" "$prefix"
fi
libraries=$(dirname "$(find "$prefix" -name libkwind.so -print -quit)")
[ -n "$libraries" ] || { echo "there is no libkwind.so below $prefix"; exit 1; }
export PKG_CONFIG_PATH=$libraries/pkgconfig LD_LIBRARY_PATH=$libraries
# Where the system's own folders are searched anyway.
[ "$prefix" = /usr ] && unset PKG_CONFIG_PATH LD_LIBRARY_PATH
projects=("$@")
[ ${#projects[@]} -gt 0 ] || projects=(cmake_package static_library components makefile c python wrong)

fail() {
  echo "$project: $1"
  shift
  for file in "$@"; do [ ! -f "$file" ] || cat "$file"; done
  exit 1
}

# configure FOLDER [ARGUMENT...]: a project of this folder, built in $work.
configure() {
  local folder=$1
  shift
  cmake -S "$here/$folder" -B "$work/$project" -DCMAKE_BUILD_TYPE=Debug -DCMAKE_PREFIX_PATH="$prefix" \
    -DEXAMPLES="$source/examples" -G Ninja "$@" >"$work/$project.log" 2>&1
}
compile() {
  configure "$@" || fail "does not configure" "$work/$project.log"
  cmake --build "$work/$project" >"$work/$project.log" 2>&1 || fail "does not build" "$work/$project.log"
}

# meet FOLDER: a server and two clients of first_light; each must see the other.
meet() {
  local log=$work/$project.server address key clients=()
  : >"$log"
  "$1/tug_server" 0 >"$log" 2>&1 &
  servers+=($!)
  for _ in $(seq 100); do
    grep -q listening "$log" && break
    sleep 0.05
  done
  read -r _ _ address key <"$log" || fail "the server says nothing" "$log"
  for i in 1 2; do
    "$1/tug_client" "$address" "$key" 2 >"$work/$project.client$i" 2>&1 &
    clients+=($!)
  done
  for client in "${clients[@]}"; do wait "$client" || fail "a client failed" "$work/$project".client*; done
  grep -q 'tug 2 is at' "$work/$project.client1" "$work/$project.client2" || fail "nobody sees tug 2" "$work/$project".client*
  grep -q 'tug 1 is at' "$work/$project.client1" "$work/$project.client2" || fail "nobody sees tug 1" "$work/$project".client*
}

# sail_with COMMAND... [--] SECONDS: a server of c_tug, and one pilot: COMMAND ADDRESS KEY SECONDS.
sail_with() {
  local log=$work/$project.server address key command=("${@:1:$#-1}") seconds=${*: -1}
  [ "${command[-1]}" != -- ] || unset 'command[-1]'
  : >"$log"
  "$work/c/server" 0 >"$log" 2>&1 &
  servers+=($!)
  for _ in $(seq 100); do
    grep -q listening "$log" && break
    sleep 0.05
  done
  read -r _ _ address key <"$log" || fail "the server says nothing" "$log"
  "${command[@]}" "$address" "$key" "$seconds" >"$work/$project.pilot" 2>&1 || fail "the pilot failed" "$work/$project.pilot"
}

# Only these may be needed at run time by a game that links the library.
needs_little() {
  local needed
  needed=$(ldd "$1" | sed -nE 's/^[[:space:]]*([^ ]+) .*/\1/p' | grep -vE '^(linux-vdso|libc\.so|libm\.so|libgcc_s|libstdc\+\+|/lib|libpthread|ld-linux)' |
    sed -E 's/\.so.*//' | sort | tr '\n' ' ')
  [ "$needed" = "$2" ] || fail "needs $needed instead of $2"
}

for project in "${projects[@]}"; do
  start=$(date +%s)
  case $project in
    cmake_package)
      compile cmake_package
      meet "$work/$project"
      needs_little "$work/$project/tug_server" "libfmt libkwind libsodium "
      ;;
    static_library)
      compile cmake_package -DKWIND_USE_STATIC_LIBS=ON
      meet "$work/$project"
      needs_little "$work/$project/tug_server" "libfmt libsodium "
      ;;
    components)
      compile components
      said=$("$work/$project/office" 2>&1) || fail "fails: $said"
      [ "$said" = '{"words":"fog","quay":7}
read_unchecked: ticket_invalid
listen: bad_key
read_capture: bad_capture' ] || fail "says $said"
      ;;
    subdirectory)
      compile subdirectory -DKWIND="$source" -DCMAKE_UNITY_BUILD=ON
      meet "$work/$project"
      ;;
    makefile)
      mkdir "$work/$project"
      make -C "$work/$project" -f "$here/makefile/Makefile" EXAMPLES="$source/examples" >"$work/$project.log" 2>&1 ||
        fail "does not build" "$work/$project.log"
      meet "$work/$project"
      ;;
    c)
      compile c
      sail_with "$work/c/tug" 3
      grep -q 'own tug .* at .*, bearing' "$work/c.pilot" || fail "a pilot in C does not see its tug" "$work/c.pilot"
      grep -Eq '1 tugs and [1-9][0-9]* gulls in view' "$work/c.pilot" || fail "a pilot in C sees no gulls" "$work/c.pilot"
      # C alone must do: the library brings C++ itself.
      needs_little "$work/c/tug" "libfmt libkwind libsodium "
      ;;
    python)
      [ -x "$work/c/server" ] || project=c compile c
      sail_with python3 "$here/python/tug.py" "$libraries/libkwind.so.0" "$source/examples/c_tug/towage.kw" -- 3
      grep -q '"own": \[0.0, [1-9]' "$work/python.pilot" || fail "a pilot in Python does not see its tug move" "$work/python.pilot"
      grep -q 'of type real' "$work/python.pilot" || fail "a mistake is not told" "$work/python.pilot"
      ;;
    wrong)
      # What does not fit is said when a project is configured, or where its description is compiled.
      expect() {
        local what=$1
        shift
        if configure "$@"; then fail "configures, and should not" "$work/$project.log"; fi
        tr '\n' ' ' <"$work/$project.log" | tr -s ' ' | grep -q "$what" || fail "does not say: $what" "$work/$project.log"
        rm -rf "${work:?}/$project"
      }
      expect 'has no component `sonar`; it has core' wrong -DWRONG=component
      expect 'version: 0.2.0' wrong -DWRONG=version
      expect 'there is no file .*missing.kw' wrong -DWRONG=file
      expect 'no line `protocol NAME VERSION` found' wrong -DWRONG=nameless
      configure wrong -DWRONG=description || fail "does not configure" "$work/$project.log"
      if cmake --build "$work/$project" >"$work/$project.log" 2>&1; then fail "builds, and should not" "$work/$project.log"; fi
      grep -q 'wrong.kw:5:.*error:' "$work/$project.log" || fail "does not say where the description is wrong" "$work/$project.log"
      ;;
    *) echo "there is no project $project"; exit 2 ;;
  esac
  echo "$project: $(($(date +%s) - start)) s"
done
