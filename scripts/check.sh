#!/usr/bin/env bash
# ./imbrek check: format, lint and types, of .NET and of the web app.
set -euo pipefail
here=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
source "$here/scripts/install.sh"
source "$here/scripts/build.sh"
need_toolchain
need_web_packages
cd "$here"
echo "Format and analyzers of .NET"
dotnet restore -v quiet >/dev/null
dotnet format --no-restore --verify-no-changes --exclude src/Imbrek.Data/Migrations
build_server
cd web
npm run --silent api >/dev/null
echo "Types, lint and format of the web app"
npm run --silent types
npm run --silent lint
npm run --silent format
