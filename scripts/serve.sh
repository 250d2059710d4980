#!/usr/bin/env bash
# ./imbrek serve --connection STRING [--port N]: the server on a PostgreSQL of your own, without demo data.
# IMBREK_ADMIN_PASSWORD (at least 12 letters) makes the sign-in "admin" on the first start.
set -euo pipefail
here=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
source "$here/scripts/install.sh"
source "$here/scripts/build.sh"
port=8420
connection=${IMBREK_CONNECTION:-}
while [ $# -gt 0 ]; do
  case "$1" in
    --port) port=${2:?a port}; shift 2 ;;
    --connection) connection=${2:?a connection string}; shift 2 ;;
    *) echo "imbrek: serve does not know '$1'" >&2; exit 2 ;;
  esac
done
if [ -z "$connection" ]; then
  echo "imbrek: say which PostgreSQL to use: ./imbrek serve --connection \"Host=…;Database=…;Username=…\"" >&2
  exit 2
fi
need_toolchain
build_server
build_web
export IMBREK_CONNECTION=$connection IMBREK_WEB="$here/web/dist"
exec "$here/out/server/Imbrek.Server" --urls "http://127.0.0.1:$port" --contentRoot "$here/out/server"
