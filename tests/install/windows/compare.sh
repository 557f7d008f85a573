#!/usr/bin/env bash
# A Linux server, a Linux client and a Windows client under Wine, both behind a path that loses 2 % each way: every state
# that a client ever held of an entity is held against the server's of that tick.
#   compare.sh LINUX_BUILD WINDOWS_BUILD MINUTES
set -euo pipefail
linux=$1 windows=$2 seconds=$(awk -v m="$3" 'BEGIN { print m * 60 }')
work=$(mktemp -d)
started=()
finish() {
  for job in "${started[@]}"; do kill "$job" 2>/dev/null || true; done
  rm -rf "$work"
}
trap finish EXIT
"$linux/tests/c_compare" server "$(awk -v s="$seconds" 'BEGIN { print s + 8 }')" "$work/server" >"$work/listening" &
server=$!
started+=("$server")
for _ in $(seq 100); do
  grep -q listening "$work/listening" && break
  sleep 0.05
done
read -r _ _ address key <"$work/listening"
port=$((20000 + RANDOM % 20000))
"$linux/tool/kwind" lag --server "$address" --listen "127.0.0.1:$port" --delay 30 --jitter 10 --loss 2 </dev/null >"$work/lag" 2>&1 &
started+=("$!")
sleep 1
"$linux/tests/c_compare" client "127.0.0.1:$port" "$key" "$seconds" "$work/linux" &
first=$!
wine "$windows/tests/c_compare.exe" client "127.0.0.1:$port" "$key" "$seconds" "Z:$work/windows" &
second=$!
wait "$first" || { cat "$work/lag"; echo "the Linux client failed"; exit 1; }
wait "$second" || { cat "$work/lag"; echo "the Windows client failed"; exit 1; }
wait "$server"
for client in linux windows; do
  awk -v who="$client" '
    # What the server held from a tick on, until the next line of the same entity.
    NR == FNR { n = ++count[$2 " " $3]; from[$2 " " $3, n] = $1; held[$2 " " $3, n] = $4 " " $5; next }
    {
      key = $2 " " $3
      if (!(key in at)) at[key] = 1
      sub(/\r$/, "")
      while (at[key] < count[key] && from[key, at[key] + 1] <= $1) ++at[key]
      while (at[key] > 1 && from[key, at[key]] > $1) --at[key]
      ++compared
      if (held[key, at[key]] != $4 " " $5 || from[key, at[key]] > $1) {
        if (++wrong <= 5) print who ": tick " $1 ", entity " key ": " $4 " " $5 " instead of " held[key, at[key]]
      }
    }
    END {
      printf "%s: %d states compared, %d wrong\n", who, compared, wrong
      exit wrong > 0 || compared < 1000
    }' "$work/server" "$work/$client"
done
