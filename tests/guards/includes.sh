#!/usr/bin/env bash
# Holds the drawing of ARCHITECTURE.md: an area includes only the areas below it, a part of an area only the parts
# named here, and system headers stand in src/io alone. Prints each line that breaks a rule.
set -u
cd "$(dirname "$0")/../.." || exit 2
declare -A may=(
  [core]="core" [bits]="bits core" [schema]="schema bits core" [link]="link bits core"
  [language]="language schema bits core" [json]="json schema bits core"
  [budget]="budget json language schema bits core"
  [capture]="capture replica link schema bits core"
  [ticket]="ticket link bits core" [route]="route schema link bits core" [io/sim]="io/sim core"
  [io]="io io/sim core" [web]="web io core" [web_transport]="web_transport io core"
  [replica]="replica schema link bits core"
  [c]="c language front host replica route io io/sim link schema bits core"
  [front]="front host replica route io io/sim link schema bits core"
  [host]="host replica route io io/sim link schema bits core"
  [simulation]="simulation host replica route io io/sim link schema bits core"
)
# Parts of an area, by their folders below src: what a file of the part may include of its own area.
declare -A parts=(
  [replica/coding]="replica/coding"
  [replica/server]="replica/server replica/coding"
  [replica/client]="replica/client replica/coding"
)
wrong=0
checked=0
for area in "${!may[@]}"; do
  for base in include/kwind src; do
    while IFS= read -r file; do
      # io/sim is an area of its own.
      case "$area:$file" in io:"$base"/io/sim/*) continue ;; esac
      checked=$((checked + 1))
      while IFS= read -r target; do
        case " ${may[$area]} " in
          *" $target "*) ;;
          *) echo "$file includes kwind/$target, which $area may not"; wrong=1 ;;
        esac
      done < <(sed -nE 's|^#include "kwind/(.*)/[^/]+".*|\1|p' "$file" | sed 's|/detail$||')
      folder=$(dirname "${file#src/}")
      if [ "$base" = src ] && [ -n "${parts[$folder]:-}" ]; then
        while IFS= read -r target; do
          case " ${parts[$folder]} " in
            *" $target "*) ;;
            *) echo "$file includes $target, which $folder may not"; wrong=1 ;;
          esac
        done < <(sed -nE 's|^#include "(replica/[a-z]+)/[^/]+".*|\1|p' "$file")
      fi
      system='sys/|net|arpa/|unistd|fcntl|poll|signal|pthread|thread|mutex|iostream|fstream|cstdio|ctime'
      # A server in two halves is what threads are for.
      [ "$file" = src/host/threaded.cpp ] && system=${system/|thread|mutex/}
      # Calls of C may come from any thread.
      [ "$area" = c ] && system=${system/|thread|mutex/}
      # The front reads key files.
      [ "$area" = front ] && system=${system/fstream|/}
      if [ "$area" != io ] && grep -nHE "^#include <($system)" "$file"; then
        echo "  system headers belong in src/io"; wrong=1
      fi
    done < <(find "$base/$area" -name '*.h' -o -name '*.cpp' 2>/dev/null)
  done
done
# Of io, what one system alone has stands in its folder; sockets.h is the one door.
if grep -nE '^#include <(sys/|net|arpa/|unistd|fcntl|poll|linux/|winsock|ws2)' src/io/*.cpp src/io/*.h include/kwind/io/*.h | grep -v '^src/io/sockets.h:'; then
  echo "  what one system has belongs in src/io/{linux,posix,windows}"; wrong=1
fi
# What the code asks of a compiler beyond the standard stands in few places, so that another compiler is a matter of these.
if grep -rnE '__builtin_|__attribute__|__declspec|_mm_|#ifn?def (__linux__|__unix__|__GNUC__|_MSC_VER)' include src --include='*.h' --include='*.cpp' |
  grep -vE '^(include/kwind/(core/(compiler|prefetch)|bits/(checked|quantise)|c/kwind)\.h|src/io/(linux|posix|windows)/)'; then
  echo "  compiler built-ins belong in kwind/core/compiler.h"; wrong=1
fi
[ "$checked" -gt 150 ] || { echo "only $checked files were checked: has the layout changed?"; exit 2; }
exit $wrong
