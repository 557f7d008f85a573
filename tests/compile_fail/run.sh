#!/usr/bin/env bash
# Misuse that must not compile. Each source is built as it stands, which must pass, and with
# KWIND_WRONG, which must fail with the words behind "Refused with:" in its first lines (an extended
# regular expression). A mistake in the source itself cannot pass for the refusal.
# run.sh COMPILER SOURCE FLAG...
set -u
compiler=$1 source=$2
shift 2
words=$(sed -nE 's|^// Refused with: (.*)$|\1|p' "$source")
[ -n "$words" ] || { echo "$source does not say what refuses it"; exit 2; }
build() { "$compiler" -std=c++20 -fsyntax-only -Wall -Wextra -Werror "$@" "$source" 2>&1; }
right=$(build "$@") || { echo "$right"; echo "$source does not compile as it stands"; exit 1; }
if wrong=$(build -DKWIND_WRONG "$@"); then
  echo "$source compiles with KWIND_WRONG"
  exit 1
fi
grep -qE "$words" <<<"$wrong" || { echo "$wrong"; echo "$source: no line has: $words"; exit 1; }
