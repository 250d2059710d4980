#!/usr/bin/env bash
# ./imbrek kills [N]: N times (100) a server process is killed where a drill just is, there and home again; then N times with two and N times with three processes while all plans run at the fastest pace:
# no run is lost or done twice, nobody writes on two sides. Some of each run in the test. It takes hours, and wants the machine to itself.
set -euo pipefail
here=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
source "$here/scripts/install.sh"
need_toolchain
need_postgresql
source "$here/scripts/postgres.sh"
source "$here/scripts/build.sh"
dotnet build "$here/tests/Imbrek.Server.Tests" -c Release -v q -nologo
build_programs
cd /
pg_scratch kills-pg 5690
for what in '*Killed_again_and_again_at_other_steps*' '*Processes_killed_again*'; do
  IMBREK_TEST_PG="Host=127.0.0.1;Port=$pg_port;Username=imbrek" IMBREK_KILLS=${1:-100} DOTNET_TieredPGO=0 \
    "$here/tests/Imbrek.Server.Tests/bin/Release/net10.0/Imbrek.Server.Tests" -noColor -explicit on -method "$what"
done
