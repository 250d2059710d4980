#!/usr/bin/env bash
# ./imbrek hostile: 2,000 mutated files of each format and 5,000 mutated requests over all endpoints, from seeds; the test runs a sample.
set -euo pipefail
here=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
source "$here/scripts/install.sh"
source "$here/scripts/postgres.sh"
need_toolchain
need_postgresql
for name in Core Server; do dotnet build "$here/tests/Imbrek.$name.Tests" -c Release -v quiet -nologo; done
data=$(pg_home "hostile-pg-$$")
stop() {
  trap - EXIT INT TERM
  pg_stop "$data"
  rm -rf "$data"
}
trap stop EXIT
trap 'exit 130' INT
trap 'exit 143' TERM
pg_start "$data" 5820 -c fsync=off
export IMBREK_TEST_PG="Host=127.0.0.1;Port=$pg_port;Username=imbrek" IMBREK_HOSTILE=2000 IMBREK_HOSTILE_REQUESTS=5000
"$here/tests/Imbrek.Core.Tests/bin/Release/net10.0/Imbrek.Core.Tests" -noColor -method '*mutated_at_random*'
"$here/tests/Imbrek.Server.Tests/bin/Release/net10.0/Imbrek.Server.Tests" -noColor -showLiveOutput -method '*Mutated_requests*'
