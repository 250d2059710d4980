#!/usr/bin/env bash
# ./imbrek check [dotnet|web]: format, lint and types, of .NET and of the web app, or of one of them. Building everything is the larger part: analyzers run in it, and warnings are errors.
# The web app is checked against the API that building .NET describes.
set -euo pipefail
here=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
source "$here/scripts/install.sh"
source "$here/scripts/build.sh"
what=${1:-all}
cd "$here"
mkdir -p "$here/out"
if [ "$what" != web ]; then
  need_toolchain
  echo "Building with analyzers"
  if ! compile build Imbrek.slnx -c Release -v quiet -nologo >"$here/out/build.log" 2>&1; then
    cat "$here/out/build.log"
    exit 1
  fi
fi
if [ "$what" != dotnet ]; then
  need_web_packages
  cd web
  npm run --silent api >/dev/null
  echo "Types, lint and format of the web app"
  npm run --silent types
  npm run --silent lint
  npm run --silent format
fi
