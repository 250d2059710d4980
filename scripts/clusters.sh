# The three real clusters of ./imbrek demo --postgresql, on loopback, and two standbys: one at the other site, and one that stays two minutes behind.
# Sourced after postgres.sh; expects $here.
clusters="harbour tickets crew"
standbys="harbour-hill tickets-late"
cluster_home=${IMBREK_CLUSTERS_HOME:-$(pg_home clusters)}
cluster_ports=""
standby_ports=""

# Starts them, made when there are none yet; one that was lost stays lost. Sets cluster_ports and standby_ports.
clusters_start() {
  local name port=5720
  mkdir -p "$cluster_home"
  chmod 755 "$cluster_home"
  if [ ! -e "$cluster_home/credentials" ]; then
    (
      umask 077
      for name in owner keeper; do echo "$name=$(od -An -N16 -tx1 /dev/urandom | tr -d ' \n')"; done >"$cluster_home/credentials"
    )
  fi
  for name in $clusters; do
    if [ -e "$cluster_home/$name.lost" ]; then
      cluster_ports="$cluster_ports${cluster_ports:+,}$name=$(cat "$cluster_home/$name.lost")"
      continue
    fi
    if [ ! -e "$cluster_home/$name/PG_VERSION" ]; then
      cluster_make "$cluster_home/$name"
      cluster_up "$name"
      cluster_keeper
    fi
    cluster_up "$name"
    cluster_ports="$cluster_ports${cluster_ports:+,}$name=$port"
    port=$((port + 1))
  done
  for name in $standbys; do
    if [ ! -e "$cluster_home/$name/PG_VERSION" ]; then
      if [ -e "$cluster_home/${name%-*}.lost" ]; then continue; fi
      standby_make "$name" "${name%-*}"
    fi
    cluster_up "$name"
    standby_ports="$standby_ports${standby_ports:+,}$name=$port"
    port=$((port + 1))
  done
}

cluster_up() { # cluster_up NAME: starts one that does not run; sets port to its port
  local data="$cluster_home/$1"
  if as_postgres "$pg_bin/pg_ctl" -D "$data" status >/dev/null 2>&1; then
    port=$(as_postgres sed -n 4p "$data/postmaster.pid")
    return
  fi
  port=$(cat "$data.port" 2>/dev/null || free_port "$port")
  echo "$port" >"$data.port"
  if ! as_postgres "$pg_bin/pg_ctl" -D "$data" -l "$data/server.log" -o "-p $port -c listen_addresses=127.0.0.1 -c unix_socket_directories=" -w start >/dev/null; then
    as_postgres tail -n 20 "$data/server.log" >&2
    exit 1
  fi
}

credential() { sed -n "s/^$1=//p" "$cluster_home/credentials"; }

cluster_keeper() { # the role Imbrek signs in as, which may look, receive log, promote, and write markers of drills
  PGPASSWORD=$(credential owner) "$pg_bin/psql" -qX -h 127.0.0.1 -p "$port" -U owner -v ON_ERROR_STOP=1 postgres <<TXT
create role keeper login replication in role pg_monitor, pg_read_all_data, pg_checkpoint password '$(credential keeper)';
create schema imbrek authorization keeper;
grant execute on function pg_promote, pg_wal_replay_pause, pg_wal_replay_resume to keeper;
grant execute on function pg_ls_dir(text, boolean, boolean), pg_stat_file(text, boolean), pg_read_binary_file(text), pg_read_binary_file(text, bigint, bigint, boolean) to keeper;
TXT
}

standby_make() { # standby_make NAME CLUSTER: a copy of a running cluster that receives by a slot; one called late holds back what it received
  local data="$cluster_home/$1" of words
  of=$(cat "$cluster_home/$2.port")
  words=$(mktemp)
  echo "127.0.0.1:$of:*:owner:$(credential owner)" >"$words"
  mkdir -p "$data"
  if [ "$(id -u)" = 0 ]; then chown postgres "$data" "$words"; fi
  chmod 700 "$data"
  as_postgres env PGPASSFILE="$words" "$pg_bin/pg_basebackup" -h 127.0.0.1 -p "$of" -U owner -D "$data" -X stream -c fast -R -C -S "${1//-/_}" >/dev/null
  rm -f "$words"
  as_postgres sh -c "cat >>'$data/postgresql.auto.conf'" <<TXT
primary_conninfo = 'host=127.0.0.1 port=$of user=owner password=$(credential owner) application_name=${1//-/_}'
cluster_name = '${1//-/_}'
TXT
  if [[ $1 == *-late ]]; then as_postgres sh -c "echo \"recovery_min_apply_delay = '2min'\" >>'$data/postgresql.auto.conf'"; fi
}

cluster_make() { # cluster_make FOLDER: with checksums, and log files of 4 MiB so that some come and go while one looks
  local words
  words=$(mktemp)
  credential owner >"$words"
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
  for name in $standbys $clusters; do
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
Standbys: $standby_ports.
Lose one from another terminal:  ./imbrek demo --postgresql --lose harbour
TXT
}
