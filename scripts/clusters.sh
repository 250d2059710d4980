# The three real clusters of ./imbrek demo --postgresql, on loopback. Sourced after postgres.sh; expects $here.
clusters="harbour tickets crew"
cluster_home=${IMBREK_CLUSTERS_HOME:-$(pg_home clusters)}
cluster_ports=""

# Starts them, made when there are none yet; one that was lost stays lost. Sets cluster_ports.
clusters_start() {
  local name data port=5720
  mkdir -p "$cluster_home"
  chmod 755 "$cluster_home"
  if [ ! -e "$cluster_home/credentials" ]; then
    (
      umask 077
      for name in owner keeper; do echo "$name=$(od -An -N16 -tx1 /dev/urandom | tr -d ' \n')"; done >"$cluster_home/credentials"
    )
  fi
  for name in $clusters; do
    data="$cluster_home/$name"
    if [ -e "$data.lost" ]; then
      cluster_ports="$cluster_ports${cluster_ports:+,}$name=$(cat "$data.lost")"
      continue
    fi
    if [ ! -e "$data/PG_VERSION" ]; then cluster_make "$data"; fi
    if as_postgres "$pg_bin/pg_ctl" -D "$data" status >/dev/null 2>&1; then
      port=$(as_postgres sed -n 4p "$data/postmaster.pid")
    else
      port=$(cat "$data.port" 2>/dev/null || free_port "$port")
      echo "$port" >"$data.port"
      if ! as_postgres "$pg_bin/pg_ctl" -D "$data" -l "$data/server.log" -o "-p $port -c listen_addresses=127.0.0.1 -c unix_socket_directories=" -w start >/dev/null; then
        as_postgres tail -n 20 "$data/server.log" >&2
        exit 1
      fi
    fi
    cluster_ports="$cluster_ports${cluster_ports:+,}$name=$port"
    port=$((port + 1))
  done
}

cluster_make() { # cluster_make FOLDER: with checksums, and log files of 4 MiB so that some come and go while one looks
  local words
  words=$(mktemp)
  sed -n 's/^owner=//p' "$cluster_home/credentials" >"$words"
  mkdir -p "$1"
  if [ "$(id -u)" = 0 ]; then chown postgres "$1" "$words"; fi
  chmod 700 "$1"
  as_postgres "$pg_bin/initdb" -D "$1" -U owner -A scram-sha-256 --pwfile="$words" -E UTF8 --locale=C.UTF-8 -k --wal-segsize=4 >/dev/null
  rm -f "$words"
  as_postgres sh -c "cat >>'$1/postgresql.conf'" <<'TXT'
shared_buffers = '32MB'
max_wal_size = '128MB'
min_wal_size = '16MB'
TXT
}

clusters_stop() {
  local name instance
  for name in $clusters; do
    if [ -e "$cluster_home/$name/PG_VERSION" ]; then pg_stop "$cluster_home/$name"; fi
  done
  # What was restored aside goes to rest too; a run that is held takes it up again.
  for instance in "$cluster_home"/*-spare/*/data; do
    if [ -e "$instance/postmaster.pid" ]; then pg_stop "$instance"; fi
  done
}

clusters_remove() {
  clusters_stop
  rm -rf "$cluster_home"
}

# What a day when the machine dies looks like: its first process is killed, its data folder is gone.
cluster_lose() {
  local data="$cluster_home/$1"
  if [ ! -e "$data/postmaster.pid" ]; then
    echo "imbrek: $1 does not run" >&2
    exit 1
  fi
  local first
  first=$(head -n 1 "$data/postmaster.pid")
  sed -n 4p "$data/postmaster.pid" >"$data.lost"
  kill -KILL "$first" $(pgrep -P "$first") 2>/dev/null || true
  rm -rf "$data"
  echo "$1 was killed under load, and its data folder removed."
}

clusters_say() {
  cat <<TXT

Three clusters run on loopback: $cluster_ports. A workload writes a trail into each.
Lose one from another terminal:  ./imbrek demo --postgresql --lose harbour
TXT
}
