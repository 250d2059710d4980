# Installs what a fresh Debian machine lacks. Sourced; expects $here.

# Debian packages, when a command or file of theirs is missing: need_debian PROBE PACKAGE…
need_debian() {
  local probe=$1
  shift
  if [ -e "$probe" ] || command -v "$probe" >/dev/null 2>&1; then
    return
  fi
  echo "Installing from Debian: $*" >&2
  local sudo=""
  if [ "$(id -u)" != 0 ]; then
    if ! command -v sudo >/dev/null 2>&1; then
      echo "imbrek: $* must be installed first: apt-get install $*" >&2
      exit 1
    fi
    sudo=sudo
  fi
  mkdir -p "$here/out"
  if ! { $sudo apt-get update && DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y --no-install-recommends "$@"; } >"$here/out/apt.log" 2>&1; then
    cat "$here/out/apt.log" >&2
    exit 1
  fi
}

need_postgresql() { need_debian /usr/lib/postgresql/15/bin/initdb postgresql-15; }
need_chromium() { need_debian /usr/bin/chromium-headless-shell chromium-headless-shell fonts-liberation; }

need_toolchain() {
  local tool
  for tool in dotnet node npm; do
    if ! command -v "$tool" >/dev/null 2>&1; then
      echo "imbrek: $tool is missing; install the .NET 10 SDK and Node 20" >&2
      exit 1
    fi
  done
}

# The packages of the web app, when the lock file changed since they were installed; who comes meanwhile waits.
need_web_packages() {
  mkdir -p "$here/out"
  (
    flock 9
    if [ ! -e "$here/web/node_modules/.installed" ] || [ "$here/web/package-lock.json" -nt "$here/web/node_modules/.installed" ]; then
      echo "Installing the web app's packages…" >&2
      if ! (cd "$here/web" && PLAYWRIGHT_SKIP_BROWSER_DOWNLOAD=1 npm ci --no-audit --no-fund >"$here/out/npm.log" 2>&1 9>&-); then
        cat "$here/out/npm.log" >&2
        exit 1
      fi
      touch "$here/web/node_modules/.installed"
    fi
  ) 9>"$here/out/.npm.lock" || exit 1
}
