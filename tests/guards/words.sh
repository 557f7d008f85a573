#!/usr/bin/env bash
# Keeps names out of the tree that the glossary (docs/concepts.md) has a better word for.
set -u
cd "$(dirname "$0")/../.." || exit 2
names='offer_fill|on_fill|on_fill_told|see_through|look_from|look_around|Happening|happenings|Ruling|on_rest|AnswerDesk|Questions|Asked|comeback|Comeback|take_in|UdpPort|TcpPort|WatchedPort|ImpairedPort|LivePort|Mirror|Sight|Viewer|Course|Courses|Copies|Desk|Parcel|Filler|Tally|knock|StreamCutter|Roll|ask_for|unix_at_zero|used_input|input_used|heading2|heading3'
files=$(git ls-files 'include/*' 'src/*' 'tool/*' 'examples/*' 'README.md' 'ARCHITECTURE.md' 'docs/*.md' 'docs/guide/*.md' | grep -v '^docs/decisions/' | grep -E '\.(h|cpp|md)$')
[ "$(echo "$files" | wc -l)" -gt 250 ] || { echo "only $(echo "$files" | wc -l) files were checked: has the layout changed?"; exit 2; }
# shellcheck disable=SC2086
if grep -nwE "$names" $files; then
  echo "these names have others now; see docs/concepts.md"
  exit 1
fi
