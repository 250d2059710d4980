#!/usr/bin/env bash
# ./imbrek demo [--port N] [--fresh] [--postgresql [--lose CLUSTER]]: PostgreSQL, the server and the Tarnholt Ferries demo, or one on
# three real clusters, until Ctrl-C.
set -euo pipefail
here=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
source "$here/scripts/install.sh"
source "$here/scripts/postgres.sh"
source "$here/scripts/build.sh"
source "$here/scripts/clusters.sh"

port=8420
fresh=no
real=no
lose=""
while [ $# -gt 0 ]; do
  case "$1" in
    --port)
      port=${2:-}
      if ! [[ $port =~ ^[0-9]+$ ]] || [ "$port" -lt 1 ] || [ "$port" -gt 65535 ]; then
        echo "imbrek: --port: '$port' is not a port between 1 and 65535" >&2
        exit 2
      fi
      shift 2
      ;;
    --fresh)
      fresh=yes
      shift
      ;;
    --postgresql)
      real=yes
      shift
      ;;
    --lose)
      lose=${2:-}
      if [[ " $clusters " != *" $lose "* ]]; then
        echo "imbrek: --lose: '$lose' is none of $clusters" >&2
        exit 2
      fi
      shift 2
      ;;
    *)
      echo "imbrek: demo does not know '$1'" >&2
      exit 2
      ;;
  esac
done

if [ -n "$lose" ]; then
  if [ "$real" = no ]; then
    echo "imbrek: --lose goes with --postgresql" >&2
    exit 2
  fi
  cluster_lose "$lose"
  exit 0
fi

mkdir -p "$here/.run"
exec 9>"$here/.run/demo.lock"
if ! flock -n 9; then
  echo "imbrek: a demo of this folder is already running" >&2
  exit 1
fi

if [ "$real" = yes ]; then data=$(pg_home clusters-pg); else data=$(pg_home demo-pg); fi
world="$here/.run/demo-world"
server=""
stop() {
  trap - EXIT INT TERM
  if [ -n "$server" ]; then
    kill -TERM "$server" 2>/dev/null || true
    wait "$server" 2>/dev/null || true
  fi
  if [ "$real" = yes ]; then clusters_stop; fi
  pg_stop "$data"
}

demo() {
  need_toolchain
  need_postgresql
  build_web
  trap stop EXIT
  trap 'exit 130' INT
  trap 'exit 143' TERM

  if [ "$fresh" = yes ]; then
    if [ -e "$data/PG_VERSION" ]; then pg_stop "$data"; fi
    rm -rf "$data"
    if [ "$real" = yes ]; then clusters_remove; else rm -rf "$world"; fi
  fi

  echo "Starting PostgreSQL…"
  pg_start "$data" 5520
  pg_create imbrek

  taken=$port
  port=$(free_port "$port")
  if [ "$port" != "$taken" ]; then
    echo "Port $taken is taken; using $port."
  fi

  show=(--demo "$world")
  if [ "$real" = yes ]; then
    echo "Starting the clusters…"
    clusters_start
    show=(--clusters "$cluster_ports" --standbys "$standby_ports" --clusters-folder "$cluster_home" --addresses "$cluster_home/addresses")
    export IMBREK_CREDENTIALS=$cluster_home/credentials
  fi

  # Messages of the demo's plans are posted to the demo itself; the secret in the address keeps everybody else from doing so.
  if [ "$real" = no ]; then
    secret=$(od -An -N16 -tx1 /dev/urandom | tr -d ' \n')
    export IMBREK_WEBHOOK_SECRET=$secret IMBREK_WEBHOOK="http://127.0.0.1:$port/webhook-receiver/$secret"
  fi
  IMBREK_CONNECTION=$(pg_connection imbrek) IMBREK_WEB="$here/web/dist" \
    "$here/out/demo/Imbrek.Demo" --urls "http://127.0.0.1:$port" "${show[@]}" \
    --Logging:LogLevel:Default=Warning --contentRoot "$here/out/demo" &
  server=$!
  until curl -fs "http://127.0.0.1:$port/healthz" >/dev/null 2>&1; do
    if ! kill -0 "$server" 2>/dev/null; then
      echo "imbrek: the server ended before it was ready; see above" >&2
      exit 1
    fi
    sleep 0.2
  done

  cat <<TXT

Sign in as  look, operate, plan, approve or admin
Password    tarnholt-demo-1   (the same for all of them)
Ctrl-C stops everything; the next start goes on from there.
$([ "$real" = no ] || clusters_say)
Ready: http://127.0.0.1:$port
TXT
  wait "$server"
}

# The lock is this script's alone: what it starts must not hold it when it is gone.
demo 9>&-
