#!/usr/bin/env bash
# ./imbrek overhead [SECONDS]: what receiving the log of a cluster costs it: commits a second of pgbench without and with us, turn by turn in one run,
# and the exposure seen each second meanwhile. Writes to the cluster "tickets" of a running ./imbrek demo --postgresql.
set -euo pipefail
here=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
source "$here/scripts/postgres.sh"
source "$here/scripts/clusters.sh"
seconds=${1:-20}
url=${IMBREK_URL:-http://127.0.0.1:8420}
port=$(cat "$cluster_home/tickets.port")
export PGPASSWORD
PGPASSWORD=$(sed -n 's/^owner=//p' "$cluster_home/credentials")
at=(-h 127.0.0.1 -p "$port" -U owner)
jar=$(mktemp)
trap 'rm -f "$jar"' EXIT
ask() { curl -sf -b "$jar" -c "$jar" -H 'content-type: application/json' "$@"; }
ask -d '{"name":"admin","password":"tarnholt-demo-1"}' "$url/api/sign-in" >/dev/null
"$pg_bin/pgbench" "${at[@]}" -i -q -s 10 postgres >/dev/null 2>&1
turn() { # turn [RATE]: commits a second, at most RATE asked for
  "$pg_bin/pgbench" "${at[@]}" -N -c 8 -j 2 -T "$seconds" ${1:+-R "$1"} postgres 2>/dev/null | sed -nE 's/^tps = ([0-9.]+).*/\1/p'
}
exposure() { # the worst of what could be lost with the host, seen each second, until it is ended
  local worst=0 now
  while true; do
    now=$(ask "$url/api/databases/tickets?loss=host" | sed -E 's/.*"supposed":\{[^}]*"couldLoseSeconds":([0-9.]+).*/\1/')
    worst=$(awk -v a="$worst" -v b="$now" 'BEGIN {print (b > a) ? b : a}')
    echo "$worst" >"$jar.worst"
    sleep 1
  done
}
hold() { # hold true|false: our receiver is stopped, and goes on where the slot stands
  local on=$1
  if [ "$on" = true ]; then
    psql "${at[@]}" -qtAc "select pg_terminate_backend(active_pid) from pg_replication_slots where active" postgres >/dev/null
    psql "${at[@]}" -qtAc "alter role keeper nologin" postgres >/dev/null
    psql "${at[@]}" -qtAc "select pg_terminate_backend(pid) from pg_stat_activity where usename = 'keeper'" postgres >/dev/null
  else
    psql "${at[@]}" -qtAc "alter role keeper login" postgres >/dev/null
    sleep 8
  fi
}
for rate in 2000 2000 ""; do
  hold true
  without=$(turn $rate)
  hold false
  exposure &
  watching=$!
  with=$(turn $rate)
  kill "$watching" 2>/dev/null || true
  wait "$watching" 2>/dev/null || true
  awk -v a="$without" -v b="$with" -v w="$(cat "$jar.worst")" -v n="${rate:-as many as it can}" 'BEGIN {printf "asked for %s: %.0f commits/s without, %.0f with (%.1f %% less); at worst %.1f s could be lost with the host\n", n, a, b, 100 * (a - b) / a, w}'
done
rm -f "$jar.worst"
