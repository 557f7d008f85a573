#!/usr/bin/env bash
# Makes the pictures in this folder from the demo data. Usage: make.sh KWIND (run by `./dev shots`)
set -euo pipefail
kwind=$(readlink -f "$1")
out=$(cd "$(dirname "$0")" && pwd)
cd "$out/../.."
work=$(mktemp -d)
trap 'kill "$xvfb" 2>/dev/null || true; rm -rf "$work"' EXIT

display=:$((90 + RANDOM % 900))
Xvfb "$display" -screen 0 1280x800x24 >/dev/null 2>&1 &
xvfb=$!
sleep 1

# terminal NAME SECONDS COMMAND...: what a terminal shows once the command has ended.
terminal() {
  local name=$1 seconds=$2 folder=$3
  shift 3
  cat >"$work/run" <<EOF
export PATH="$(dirname "$kwind"):\$PATH"
cd "$folder"
printf '\033[?25l\$ %s\n' "$*"
$*
touch "$work/ended"
sleep 60
EOF
  rm -f "$work/ended"
  DISPLAY=$display xterm -geometry 158x47+0+0 -fa 'DejaVu Sans Mono' -fs 10 -b 8 -bw 0 \
    -bg '#fbfcfd' -fg '#22303a' -e bash "$work/run" &
  local term=$!
  for _ in $(seq $((seconds * 4))); do
    [ -e "$work/ended" ] && break
    sleep 0.25
  done
  sleep 0.7
  DISPLAY=$display import -window root "$out/$name.png"
  kill "$term" 2>/dev/null || true
  wait "$term" 2>/dev/null || true
  echo "$name.png"
}

terminal check 10 . kwind check examples/harbour/harbour.kw
terminal check-errors 10 . kwind check docs/screenshots/wrong.kw
terminal explain 10 . kwind explain examples/descriptions/hails.kw Hail 8a30b4b73c103ab432b932e300e17e:120
terminal budget 20 . kwind budget examples/harbour/harbour_world.toml --code-tables examples/harbour/harbour_world.codes
# Two tugs that sail through a bad path; the third second brings a tunnel.
examples=$(dirname "$kwind")/../examples
"$examples/first_light_server" 4997 >"$work/light" &
light=$!
sleep 1
key=$(awk '{ print $4; exit }' "$work/light")
printf '[[step]]\nat = 6\npreset = "tunnel"\n[[step]]\nat = 11\npreset = "town"\n' >"$work/drive.toml"
for _ in 1 2; do (sleep 1.5; exec "$examples/first_light_client" 127.0.0.1:4998 "$key" 16 >/dev/null 2>&1) & done
terminal lag 30 "$work" kwind lag --listen 127.0.0.1:4998 --server 127.0.0.1:4997 --preset bus --timetable drive.toml --seconds 18
kill "$light" 2>/dev/null || true
terminal demo 60 "$work" kwind demo --report demo.html
"$kwind" demo --seconds 6 --bots 4 --loss 6 --record "$work/demo.pcapng" --key-log "$work/demo.keys" >/dev/null || true
cp examples/harbour/harbour_world.kw "$work/"
terminal explain-capture 20 "$work" kwind explain harbour_world.kw --capture demo.pcapng --key-log demo.keys --retransmitted --first 2
terminal load 60 "$work" "kwind load --harbour --bots 100..500/100 --hold 4 --limit tick=50 --chart load.png"
cp "$work/load.png" "$out/load-chart.png"
terminal train 20 "$work" kwind train harbour_world.kw demo.pcapng --key-log demo.keys -o harbour.codes
"$examples/first_light_server" 4997 >"$work/light" &
light=$!
sleep 1
key=$(awk '{ print $4; exit }' "$work/light")
cp examples/first_light/harbour.kw "$work/first_light.kw"
terminal diagnose 20 "$work" "kwind diagnose --server 127.0.0.1:4997; echo; kwind diagnose --server 127.0.0.1:4997 --server-key $key --description first_light.kw; echo; kwind diagnose --server 127.0.0.1:4996"
kill "$light" 2>/dev/null || true
# A relay and two pilots, each in a terminal of its own in which somebody types.
cp examples/pier/pier.* "$work/"
sed -i 's/127.0.0.1:4000/127.0.0.1:4997/' "$work/pier.toml"
tmux=(tmux -L "kwind-shots-$$" -f /dev/null)
for name in relay tern heron; do
  "${tmux[@]}" new-session -d -s "$name" -x 156 -y 46 "cd $work; export PATH='$(dirname "$kwind")':\$PATH; PS1='\$ ' bash --norc"
done
"${tmux[@]}" set -g status off
type_in() { "${tmux[@]}" send-keys -t "$@"; sleep 0.4; }
for name in relay tern heron; do type_in "$name" clear Enter; done
type_in relay "kwind relay pier.toml" Enter
sleep 1
key=$("${tmux[@]}" capture-pane -p -t relay | awk '/public key/ { print $4; exit }')
for name in tern heron; do
  type_in "$name" "kwind talk pier.kw --server 127.0.0.1:4997 --server-key $key" Enter
  sleep 0.6
  if [ "$name" = tern ]; then
    type_in tern 'Move x=12.5 y=-3' Enter
    type_in tern 'Hail words="ahoy there"' Enter
  fi
done
type_in heron 'Hail words="ahoy Tern"' Enter
type_in tern 'types' Enter
type_in tern 'Move x=5000 y=0' Enter
type_in tern 'Hial words=x' Enter
type_in relay 'who' Enter
type_in relay 'tap 2' Enter
type_in heron 'Move x=3 y=4' Enter
type_in heron 'Hail words="clear the \u001b[31mlock"' Enter
type_in relay 'tap off' Enter
type_in relay 'say the lock closes at six' Enter
type_in relay 'remov 2' Enter
type_in relay 'bar 2 too loud' Enter
type_in heron "kwind talk pier.kw --server 127.0.0.1:4997 --server-key $key" Enter
type_in relay 'stats' Enter
type_in tern 'stats' Enter
type_in tern 'Hail words=lat'
for name in relay tern; do
  DISPLAY=$display xterm -geometry 158x47+0+0 -fa 'DejaVu Sans Mono' -fs 10 -b 8 -bw 0 \
    -bg '#fbfcfd' -fg '#22303a' -e "${tmux[@]}" attach -t "$name" &
  term=$!
  sleep 1.5
  picture=$([ "$name" = tern ] && echo talk || echo relay)
  DISPLAY=$display import -window root "$out/$picture.png"
  kill "$term" 2>/dev/null || true
  wait "$term" 2>/dev/null || true
  echo "$picture.png"
done
type_in relay quit Enter
sleep 2
"${tmux[@]}" kill-server
# page NAME FILE: the top of a page.
page() {
  chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run \
    --disable-background-networking --disable-component-update --disable-sync --hide-scrollbars \
    --user-data-dir="$work/profile" --window-size=1280,800 --screenshot="$out/$1.png" "file://$2" \
    >/dev/null 2>&1
  echo "$1.png"
}
page demo-report "$work/demo.html"
"$kwind" gen examples/descriptions/world.kw --doc "$work/doc" >/dev/null
page doc-page "$work/doc/world.html"
# The harbour in a page: needs the packages of web/.
if [ -d web/node_modules ]; then
  "$kwind" demo --web 0 >"$work/web" &
  served=$!
  sleep 2
  node web/picture.js "$(grep -o 'http://[^ ]*' "$work/web")" "$out/page.png"
  kill "$served"
  echo page.png
fi
