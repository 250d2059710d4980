#!/usr/bin/env bash
# ./imbrek serve --connection STRING [OPTION…]: the server on a PostgreSQL of your own, without demo data.
set -euo pipefail
here=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
source "$here/scripts/install.sh"
source "$here/scripts/build.sh"
port=8420
urls=""
connection=${IMBREK_CONNECTION:-}
more=()
while [ $# -gt 0 ]; do
  case "$1" in
    --help)
      cat <<'TXT'
./imbrek serve --connection "Host=…;Database=…;Username=…" [OPTION…]

The first start prints a one-time address: there you set the administrator's name and password.

  --port N                 serve on 127.0.0.1:N (8420)
  --urls URLS              serve on other addresses, such as http://0.0.0.0:8420; put a proxy that ends TLS before it
  --behind-proxy A[,B…]    believe what these addresses say of scheme and client: cookies are then for TLS alone
  --signing-key FILE       keep the private key of the ledger in a file (made at the first start) rather than in PostgreSQL
  --ledger-heads FOLDER    write signed heads of the ledger there, best a folder whose files cannot be changed
  --webhook ADDRESS        post messages there
  --end-demo-sign-ins      end the sign-ins of a demo this database has shown

IMBREK_CREDENTIALS names the file with credentials of clusters, lines of name=value that nobody but its owner may read; IMBREK_CREDENTIAL_NAME gives one
in the environment. The engine's own tools are looked for in /usr/lib/postgresql/15/bin, or in IMBREK_PG_BIN.

IMBREK_CONNECTION may name the PostgreSQL instead. IMBREK_ADMIN_PASSWORD (12 characters or more) makes the sign-in "admin" at
the first start, for installations that are set up by a script.
TXT
      exit 0
      ;;
    --port) port=${2:?a port}; shift 2 ;;
    --urls) urls=${2:?addresses}; shift 2 ;;
    --connection) connection=${2:?a connection string}; shift 2 ;;
    --behind-proxy | --signing-key | --ledger-heads | --webhook) more+=("$1" "${2:?a value}"); shift 2 ;;
    --end-demo-sign-ins) more+=(--end-demo-sign-ins true); shift ;;
    *) echo "imbrek: serve does not know '$1'; see ./imbrek serve --help" >&2; exit 2 ;;
  esac
done
if [ -z "$connection" ]; then
  echo "imbrek: say which PostgreSQL to use: ./imbrek serve --connection \"Host=…;Database=…;Username=…\"" >&2
  exit 2
fi
need_toolchain
need_postgresql
build_server
build_web
export IMBREK_CONNECTION=$connection IMBREK_WEB="$here/web/dist"
exec "$here/out/server/Imbrek.Serve" --urls "${urls:-http://127.0.0.1:$port}" --contentRoot "$here/out/server" --Logging:LogLevel:Default=Warning "${more[@]}"
