#!/usr/bin/env bash
# Holds the drawing of ARCHITECTURE.md: an area includes only those below it, and system headers stand in
# src/io alone. Prints each line that breaks it.
set -u
cd "$(dirname "$0")/../.." || exit 2
declare -A may=(
  [bits]="bits" [schema]="schema bits" [link]="link bits" [language]="language schema bits" [json]="json schema bits"
  [budget]="budget json language schema bits"
  [capture]="capture replica link schema bits"
  [ticket]="ticket link bits" [route]="route schema link bits" [io/sim]="io/sim io bits" [io]="io io/sim bits"
  [replica]="replica schema link bits"
  [host]="host route io io/sim link schema bits"
)
wrong=0
checked=0
for area in "${!may[@]}"; do
  for base in include/kwind src; do
    while IFS= read -r file; do
      # The area of a file is its folder; io/sim is not io.
      [ "$(dirname "$file")" = "$base/$area" ] || continue
      checked=$((checked + 1))
      while IFS= read -r target; do
        case " ${may[$area]} " in
          *" $target "*) ;;
          *) echo "$file includes kwind/$target, which $area may not"; wrong=1 ;;
        esac
      done < <(sed -nE 's|^#include "kwind/(.*)/[^/]+".*|\1|p' "$file")
      system='sys/|net|arpa/|unistd|fcntl|poll|signal|pthread|thread|mutex|iostream|fstream|cstdio|ctime'
      # A server in two halves is what threads are for.
      [ "$file" = src/host/threaded.cpp ] && system=${system/|thread|mutex/}
      if [ "$area" != io ] && grep -nHE "^#include <($system)" "$file"; then
        echo "  system headers belong in src/io"; wrong=1
      fi
    done < <(find "$base/$area" -name '*.h' -o -name '*.cpp' 2>/dev/null)
  done
done
[ "$checked" -gt 40 ] || { echo "only $checked files were checked: has the layout changed?"; exit 2; }
exit $wrong
