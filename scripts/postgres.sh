# A PostgreSQL of the project's own, on loopback. Sourced; expects $here.
pg_bin=/usr/lib/postgresql/15/bin

# Runs a PostgreSQL program as somebody who is not root.
as_postgres() {
  if [ "$(id -u)" = 0 ]; then
    (cd / && runuser -u postgres -- "$@")
  else
    (cd / && "$@")
  fi
}

free_port() {
  local port=$1
  while (exec 3<>"/dev/tcp/127.0.0.1/$port") 2>/dev/null; do
    port=$((port + 1))
  done
  echo "$port"
}

# Where data under a name lies: in the project, or beside it when the postgres user cannot get in there.
pg_home() {
  if [ "$(id -u)" = 0 ] && ! as_postgres test -x "$here" 2>/dev/null; then
    echo "/var/tmp/imbrek-$(printf %s "$here" | cksum | cut -d' ' -f1)/$1"
  else
    echo "$here/.run/$1"
  fi
}

# Starts PostgreSQL with its data in a folder (made when missing) and sets pg_port: pg_start FOLDER FIRST_PORT [OPTION…]
pg_start() {
  local data=$1 first=$2
  shift 2
  mkdir -p "$data"
  if [ "$(id -u)" = 0 ]; then
    chown postgres "$data"
  fi
  chmod 700 "$data"
  if [ ! -e "$data/PG_VERSION" ]; then
    as_postgres "$pg_bin/initdb" -D "$data" -U imbrek -A trust -E UTF8 --locale=C.UTF-8 --lc-collate=C -k >/dev/null
  fi
  if as_postgres "$pg_bin/pg_ctl" -D "$data" status >/dev/null 2>&1; then
    # Left running by a start that was killed.
    pg_port=$(as_postgres sed -n 4p "$data/postmaster.pid")
    return
  fi
  pg_port=$(free_port "$first")
  local options="-p $pg_port -c listen_addresses=127.0.0.1 -c unix_socket_directories= -c max_connections=200 $*"
  if ! as_postgres "$pg_bin/pg_ctl" -D "$data" -l "$data/server.log" -o "$options" -w start >/dev/null; then
    as_postgres tail -n 20 "$data/server.log" >&2
    exit 1
  fi
}

pg_stop() { as_postgres "$pg_bin/pg_ctl" -D "$1" -m fast -w stop >/dev/null 2>&1 || true; }

# A PostgreSQL for one script, gone with it: pg_scratch NAME FIRST_PORT
pg_scratch() {
  scratch=$(pg_home "$1-$$")
  trap 'pg_stop "$scratch"; rm -rf "$scratch"' EXIT
  pg_start "$scratch" "$2" -c fsync=off
}

pg_connection() { echo "Host=127.0.0.1;Port=$pg_port;Username=imbrek;Database=$1;Include Error Detail=true"; }

pg_create() { "$pg_bin/psql" -h 127.0.0.1 -p "$pg_port" -U imbrek -d postgres -qtAc "select 1 from pg_database where datname='$1'" | grep -q 1 || "$pg_bin/createdb" -h 127.0.0.1 -p "$pg_port" -U imbrek "$1"; }
