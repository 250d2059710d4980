#!/usr/bin/env bash
# ./imbrek restores [N]: N restores (200) of a cluster written to all the time, to random instants and positions, judged by the engine's own
# reader of its log: none missing, none too many. Twenty run in the test.
set -euo pipefail
here=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
source "$here/scripts/install.sh"
need_toolchain
need_postgresql
dotnet build "$here/tests/Imbrek.PostgreSql.Tests" -c Release -v q -nologo
cd /
IMBREK_RESTORES=${1:-200} exec "$here/tests/Imbrek.PostgreSql.Tests/bin/Release/net10.0/Imbrek.PostgreSql.Tests" -noColor -method '*At_any_instant*'
