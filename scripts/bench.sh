#!/usr/bin/env bash
# ./imbrek bench [import | fleet-list | timetable | replicas | drills | ways | dispatch | interface]: prints the table of docs/performance.md, measured on this machine in one run.
set -euo pipefail
here=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
source "$here/scripts/install.sh"
source "$here/scripts/postgres.sh"
source "$here/scripts/build.sh"
need_toolchain
need_postgresql
build_server
if [ "${1:-}" = interface ]; then
  need_chromium
  build_web
  export IMBREK_WEB="$here/web/dist"
fi
dotnet build "$here/bench/Imbrek.Bench" -c Release -v quiet -nologo >&2
data=$(pg_home "bench-pg-$$")
server=""
stop() {
  trap - EXIT INT TERM
  [ -z "$server" ] || { kill -TERM "$server" 2>/dev/null || true; wait "$server" 2>/dev/null || true; }
  pg_stop "$data"
  rm -rf "$data"
}
trap stop EXIT
trap 'exit 130' INT
trap 'exit 143' TERM
pg_start "$data" 5720
if [ "${1:-}" = dispatch ]; then
  dotnet build "$here/tests/Imbrek.Server.Tests" -c Release -v quiet -nologo >&2
  IMBREK_TEST_PG="Host=127.0.0.1;Port=$pg_port;Username=imbrek" "$here/tests/Imbrek.Server.Tests/bin/Release/net10.0/Imbrek.Server.Tests" -noColor -explicit only -class '*DispatchRate' -showLiveOutput
  exit
fi
pg_create bench
port=$(free_port 8620)
IMBREK_CONNECTION=$(pg_connection bench) IMBREK_ADMIN_PASSWORD=tarnholt-demo-1 \
  "$here/out/server/Imbrek.Serve" --urls "http://127.0.0.1:$port" --Logging:LogLevel:Default=Warning --contentRoot "$here/out/server" >&2 &
server=$!
until curl -fs "http://127.0.0.1:$port/healthz" >/dev/null 2>&1; do sleep 0.2; done
export IMBREK_TEST_PG="Host=127.0.0.1;Port=$pg_port;Username=imbrek" IMBREK_BENCH_URL="http://127.0.0.1:$port"
if [ "${1:-}" = interface ]; then
  (cd "$here/web" && IMBREK_URL=$IMBREK_BENCH_URL IMBREK_ADMIN_PASSWORD=tarnholt-demo-1 node e2e/atSize.mjs)
  exit
fi
"$here/bench/Imbrek.Bench/bin/Release/net10.0/Imbrek.Bench" "$@"
