# Builds what is not up to date. Sourced by the other scripts; expects $here, the root of the project.

# Whether $1 (a stamp) is missing or older than any file under the remaining arguments.
stale() {
  local stamp=$1
  shift
  [ ! -e "$stamp" ] || [ -n "$(find "$@" -type f -newer "$stamp" -not -path '*/obj/*' -not -path '*/bin/*' -not -path '*/node_modules/*' -not -path '*/dist/*' -print -quit)" ]
}

# Runs a build of .NET with one compiler for all its projects, which ends with it: one left behind would hold on to whatever it inherited.
compile() {
  local name="imbrek-$$-$RANDOM" status=0
  dotnet "$@" -p:UseSharedCompilation=true -p:SharedCompilationId="$name" </dev/null || status=$?
  pkill -TERM -f -- "-pipename:$name" || true
  return $status
}

# Publishes a .NET project: publish NAME FOLDER AHEAD SOURCES…; AHEAD says how it is compiled ahead: "alone", or "together" with what it stands on, so that what spans both is compiled ahead too (src/Ahead.targets).
publish() {
  local project=$1 folder=$2 log="$here/out/$2.log" ahead=(--self-contained false)
  [ "$3" = alone ] || ahead=(--self-contained true -p:PublishReadyToRunComposite=true)
  shift 3
  if stale "$here/out/$folder/.built" "$here/Directory.Build.props" "$here/Directory.Packages.props" "$here/src/Ahead.targets" "$@"; then
    mkdir -p "$here/out"
    echo "Building $(basename "$project")…" >&2
    # Compiled ahead where the compiler for that can be had, which starts faster (decision 025). Otherwise as usual.
    if ! publish_once "$project" "$folder" -p:PublishReadyToRun=true "${ahead[@]}" >"$log" 2>&1 \
      && ! publish_once "$project" "$folder" >"$log" 2>&1; then
      cat "$log" >&2
      exit 1
    fi
    touch "$here/out/$folder/.built"
  fi
}

publish_once() ( # one build at a time: two people's first use must not write the same files; what analyzers say, the check hears
  project=$1 folder=$2
  shift 2
  flock 8
  rm -rf "${here:?}/out/$folder"
  compile publish "$here/$project" -c Release -p:RunAnalyzers=false -o "$here/out/$folder" "$@" 8>&-
) 8>"$here/out/.build.lock"

build_cli() { publish src/Imbrek.Cli cli alone "$here/src/Imbrek.Core" "$here/src/Imbrek.Cli"; }

build_server() {
  publish src/Imbrek.Serve server together "$here/src/Imbrek.Core" "$here/src/Imbrek.Data" "$here/src/Imbrek.Server" "$here/src/Imbrek.PostgreSql" "$here/src/Imbrek.Serve"
}

# The server with the guests of its demos: the simulated world, and a workload on real clusters.
build_demo() {
  publish src/Imbrek.Demo demo together "$here/src/Imbrek.Core" "$here/src/Imbrek.Data" "$here/src/Imbrek.StandIn" "$here/src/Imbrek.Server" "$here/src/Imbrek.PostgreSql" "$here/src/Imbrek.Demo"
}

# Both programs beside the same libraries compiled ahead, for tests that start them again and again; the plain server itself is as the solution's build left it.
build_programs() {
  build_demo
  rm -rf "$here/out/programs"
  cp -al "$here/out/demo" "$here/out/programs"
  cp "$here"/src/Imbrek.Serve/bin/Release/net10.0/Imbrek.Serve{,.dll,.deps.json,.runtimeconfig.json} "$here/out/programs/"
  if [ -e "$here/out/programs/libhostfxr.so" ]; then
    local what
    # What it runs on lies beside it, compiled together with the libraries of both.
    for what in deps runtimeconfig; do
      cp "$here/out/programs/Imbrek.Demo.$what.json" "$here/out/programs/Imbrek.Serve.$what.json"
    done
  fi
  export IMBREK_PROGRAMS=$here/out/programs
}

# The web app; its client is made from the API description that building the demo writes, which has all of it.
build_web() {
  build_demo
  build_pages
}

# The same, where the demo has been built before.
build_pages() {
  need_web_packages
  if stale "$here/web/dist/.built" "$here/web/src" "$here/web/index.html" "$here/web/package-lock.json" "$here/web/vite.config.ts" "$here/src/Imbrek.Demo/openapi.json"; then
    echo "Building the web app…" >&2
    if ! (cd "$here/web" && npm run --silent api && npm run --silent build) >"$here/out/web.log" 2>&1; then
      cat "$here/out/web.log" >&2
      exit 1
    fi
    touch "$here/web/dist/.built"
  fi
}
