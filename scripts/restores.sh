#!/usr/bin/env bash
# ./imbrek restores [N]: N restores (200) of a cluster written to all the time, to random instants and positions, judged by the engine's own
# reader of its log: none missing, none too many; then a restore whose server is killed twenty times, a primary that is killed
# twenty times while what its standby has is told, and roles that change twenty times, in order and by force. Some of each run in the test.
set -euo pipefail
here=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
source "$here/scripts/install.sh"
need_toolchain
need_postgresql
source "$here/scripts/postgres.sh"
dotnet build "$here/tests/Imbrek.PostgreSql.Tests" -c Release -v q -nologo
cd /
pg_scratch restores-pg 5680
IMBREK_TEST_PG="Host=127.0.0.1;Port=$pg_port;Username=imbrek" IMBREK_KILLS=20 IMBREK_RESTORES=${1:-200} \
  "$here/tests/Imbrek.PostgreSql.Tests/bin/Release/net10.0/Imbrek.PostgreSql.Tests" -noColor -method '*At_any_instant*' -method '*Killed_at*' -method '*when_its_primary_is_killed*' -method '*ClusterDrillTests.A_*'
