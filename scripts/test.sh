#!/usr/bin/env bash
# ./imbrek test: everything CI runs. The last line is "N passed, N failed" over all suites.
set -uo pipefail
here=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
source "$here/scripts/install.sh"
source "$here/scripts/postgres.sh"
source "$here/scripts/build.sh"
# What tests write goes with them. In memory where there is plenty of it: hundreds of databases and clusters are made and thrown away, and a file system may look at all files thrown away of late before it makes one.
where=/var/tmp
more_than() { [ "${1:-0}" -gt "$2" ]; }
if more_than "$(df --output=avail -k /dev/shm 2>/dev/null | tail -n 1)" 8000000 && more_than "$(awk '/^MemAvailable/ {print $2}' /proc/meminfo)" 12000000; then where=/dev/shm; fi
for old in {/var/tmp,/dev/shm}/imbrek-test-*; do # left by one that was killed
  [ -d "/proc/${old##*-}" ] || rm -rf "$old"
done
homes=$where/imbrek-test-$$
export IMBREK_CLUSTERS_HOME=$homes/clusters
source "$here/scripts/clusters.sh"
# Processes of tests live for seconds, and there are hundreds: code measured to be made faster would not pay, nor threads that collect for each processor, nor what guards code against being written to; and a thread that has
# nothing to do leaves the processor to those that have.
export DOTNET_ThreadPool_UnfairSemaphoreSpinLimit=0 DOTNET_TieredPGO=0 DOTNET_gcServer=0 DOTNET_gcConcurrent=0 DOTNET_EnableWriteXorExecute=0
need_toolchain
mkdir -p "$here/out"

passed=0
failed=0
count() { # count NAME PASSED FAILED EXIT SECONDS: a suite that ends badly without naming a failure is one
  local bad=$3
  if [ "$4" != 0 ] && [ "$bad" = 0 ]; then bad=1; fi
  passed=$((passed + $2))
  failed=$((failed + bad))
  echo "== $1: $2 passed, $bad failed, $5 s"
}

cannot_go_on() { # what the suites need is not there
  echo "$passed passed, $((failed + 1)) failed"
  exit 1
}

data=$homes/pg
demo=""
real=""
beside=""
web=""
lints=""
computes=""
waits=""
installs=""
demos_end() { # what the browser looked at
  local pid
  for pid in $demo $real; do
    kill -TERM "$pid" 2>/dev/null
    wait "$pid" 2>/dev/null
  done
  demo=""
  real=""
  clusters_remove
}
stop() {
  trap - EXIT INT TERM
  for group in $beside $web $lints $computes $waits; do kill -TERM -- "-$group" 2>/dev/null; done
  demos_end
  pg_stop "$data"
  rm -rf "$homes"
  [ -z "$installs" ] || wait "$installs" # packages half unpacked would be in the way of everybody
}
trap stop EXIT
trap 'exit 130' INT
trap 'exit 143' TERM
rm -rf "$homes"
mkdir -m 755 "$homes"
export TMPDIR=$homes

healthy() { # healthy PORT PID: waits until a server answers, or has ended
  for _ in $(seq 900); do
    curl -fs "http://127.0.0.1:$1/healthz" >/dev/null 2>&1 && break
    kill -0 "$2" 2>/dev/null || break
    sleep 0.2
  done
}

start_beside() { # in a process group of its own, so that all of it ends when this script does
  set -m
  "$@" &
  beside=$!
  set +m
}

# What a fresh machine lacks comes while .NET is built, unless a password must be asked for.
debian() { need_postgresql; need_chromium; }
if [ "$(id -u)" = 0 ] || sudo -n true 2>/dev/null; then
  start_beside debian
  installs=$beside
  beside=""
else
  debian
fi

# What has no need of each other runs side by side: what the web app is by itself beside the builds, and what only computes beside everything.
rm -f "$here"/out/unit.json "$here"/out/*.end
units() {
  need_web_packages
  local began=$SECONDS
  (cd "$here/web" && npm run --silent unit -- --reporter=json --outputFile="$here/out/unit.json" >"$here/out/unit.log" 2>&1)
  echo "$? $((SECONDS - began))" >"$here/out/unit.end"
}
start_beside units
web=$beside
began=$SECONDS
bash "$here/scripts/check.sh" dotnet
status=$?
count "check of .NET" $((status == 0)) $((status != 0)) 0 $((SECONDS - began))
beside=""

suite() { # suite NAME [SETTING…]: runs what the check has built; leaves its exit code and its seconds in out/test-NAME.end
  local began=$SECONDS program="$here/tests/Imbrek.$1.Tests/bin/Release/net10.0/Imbrek.$1.Tests"
  env "${@:2}" "$program" -noColor -result-xml "$here/out/test-$1.xml" >"$here/out/test-$1.log" 2>&1
  echo "$? $((SECONDS - began))" >"$here/out/test-$1.end"
}

# What only computes has no clock to meet: it takes what the others leave of the processors.
give_way() { renice -n 19 "$BASHPID" >/dev/null; }
computing() {
  give_way
  suite Core
  suite StandIn
}
start_beside computing
computes=$beside
beside=""

# What tests and browser start as processes, compiled ahead: a start takes half the time, and there are hundreds.
(build_demo && build_pages) || cannot_go_on
build_programs
lint() { # what describes the API is written by what was built before
  give_way
  local began=$SECONDS
  bash "$here/scripts/check.sh" web >"$here/out/check-web.log" 2>&1
  echo "$? $((SECONDS - began))" >"$here/out/web.end"
}
start_beside lint
lints=$beside

[ -z "$installs" ] || wait "$installs" || cannot_go_on
installs=""

# Data that a test may lose with the machine need not be flushed to disk, nor written whole to survive a torn page.
pg_start "$data" 5620 -c fsync=off -c full_page_writes=off
export IMBREK_TEST_PG="Host=127.0.0.1;Port=$pg_port;Username=imbrek"

# Programs compiled ahead that live for seconds: to compile what they call often once more costs as much as all they do.
short_lived=DOTNET_TC_CallCounting=0

count_suite() { # count_suite NAME: reads what a suite left
  local log="$here/out/test-$1.log" status seconds line total bad
  read -r status seconds <"$here/out/test-$1.end"
  line=$(grep -oE 'Total: [0-9]+, Errors: [0-9]+, Failed: [0-9]+' "$log" | tail -n 1)
  total=$(sed -E 's/Total: ([0-9]+).*/\1/' <<<"${line:-Total: 0}")
  bad=$(($(sed -E 's/.*Errors: ([0-9]+), Failed: ([0-9]+).*/\1+\2/' <<<"${line:-Errors: 0, Failed: 0}")))
  [ "$status" = 0 ] || cat "$log"
  count "$1" $((total - bad)) "$bad" "$status" "$seconds"
}

# Worlds of tests go on by the clock, and cost as long as they live: the suite that has most of them comes first, and has what it needs of the processors.
start_beside suite Server $short_lived
waits=$beside
beside=""
wait "$waits"
waits=""
count_suite Server

wait "$lints"
lints=""
read -r status seconds <"$here/out/web.end"
[ "$status" = 0 ] || cat "$here/out/check-web.log"
count "check of the web app" $((status == 0)) $((status != 0)) 0 "$seconds"
wait "$web"
web=""
read -r status seconds <"$here/out/unit.end"
if [ -s "$here/out/unit.json" ]; then
  counts=$(node -e 'const r=JSON.parse(require("fs").readFileSync(process.argv[1]));console.log(r.numPassedTests,r.numFailedTests)' "$here/out/unit.json")
else
  counts="0 0"
fi
[ "$status" = 0 ] || cat "$here/out/unit.log"
# shellcheck disable=SC2086
count "web units" $counts "$status" "$seconds"

# Real clusters and the browser side by side: what the browser looks at stands still most of the time.
start_beside suite PostgreSql $short_lived
waits=$beside
beside=""
began=$SECONDS
pg_create e2e
program=$here/out/demo
port=$(free_port 8520)
IMBREK_CONNECTION=$(pg_connection e2e) IMBREK_WEB="$here/web/dist" \
  "$program/Imbrek.Demo" --urls "http://127.0.0.1:$port" --demo "$homes/world" --demo-days 20 --demo-now 2026-11-24T14:20:00Z \
  --Logging:LogLevel:Default=Warning --contentRoot "$program" >"$here/out/e2e-server.log" 2>&1 &
demo=$!

# Beside the simulated world a demo of real clusters, which one spec looks at.
pg_create clusters
clusters_start
second=$(free_port $((port + 1)))
IMBREK_CONNECTION=$(pg_connection clusters) IMBREK_WEB="$here/web/dist" IMBREK_CREDENTIALS="$cluster_home/credentials" \
  "$program/Imbrek.Demo" --urls "http://127.0.0.1:$second" --clusters "$cluster_ports" --standbys "$standby_ports" --clusters-folder "$cluster_home" --addresses "$cluster_home/addresses" \
  --Logging:LogLevel:Default=Warning --contentRoot "$program" >"$here/out/e2e-clusters.log" 2>&1 &
real=$!
healthy "$port" "$demo"
healthy "$second" "$real"
(cd "$here/web" && IMBREK_URL="http://127.0.0.1:$port" IMBREK_CLUSTERS_URL="http://127.0.0.1:$second" npx playwright test >"$here/out/e2e.log" 2>&1)
status=$?
[ "$status" = 0 ] || cat "$here/out/e2e.log"
good=$(grep -oE '[0-9]+ passed' "$here/out/e2e.log" | tail -n 1 | cut -d' ' -f1)
bad=$(grep -oE '^ +[0-9]+ (failed|flaky)' "$here/out/e2e.log" | awk '{s+=$1} END {print s+0}')
count "interface" "${good:-0}" "${bad:-0}" "$status" $((SECONDS - began))
demos_end

wait "$waits"
waits=""
count_suite PostgreSql
wait "$computes"
computes=""
count_suite Core
count_suite StandIn

echo "$passed passed, $failed failed"
[ "$failed" = 0 ]
