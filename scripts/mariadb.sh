#!/usr/bin/env bash
# A private MariaDB on loopback, for the demo and for tests; never a system instance.
#   scripts/mariadb.sh start FOLDER PORT [test]   prepares FOLDER when it is new, starts, waits until it answers
#   scripts/mariadb.sh stop FOLDER                stops it and waits
# MARIADB_FLAGS may hold more flags of the server, with spaces between.
# With "test" it trades durability against power loss for speed.
# Its administrator is root, without password, over the socket FOLDER/sock alone.
set -euo pipefail

action=${1:?start or stop}
folder=$(mkdir -p "${2:?a folder}" && cd "$2" && pwd)
chmod 700 "$folder"
PATH="$PATH:/usr/sbin:/usr/local/sbin"

as_user=()
[ "$(id -u)" -ne 0 ] || as_user=(--user=root)

# A process that was killed a moment ago still has its number until its parent takes note of its end (state Z).
is_running() {
  local pid
  [ -f "$folder/pid" ] && pid=$(cat "$folder/pid") && [ -r "/proc/$pid/stat" ] &&
    [ "$(sed 's/.*) \(.\).*/\1/' "/proc/$pid/stat" 2>/dev/null)" != Z ]
}
answers() { mariadb-admin --no-defaults --socket="$folder/sock" --user=root --connect-timeout=2 ping >/dev/null 2>&1; }

start() {
  local port=${1:?a port} mode=${2:-}
  local extra=() more=()
  read -ra more <<<"${MARIADB_FLAGS:-}"
  if [ "$mode" = test ]; then
    extra=(--innodb-doublewrite=0 --innodb-flush-log-at-trx-commit=2
      --innodb-buffer-pool-dump-at-shutdown=0 --innodb-buffer-pool-load-at-startup=0)
  fi
  # It may be there, or just about to come or to go.
  while is_running; do
    if answers; then return 0; fi
    sleep 0.1
  done
  if [ ! -e "$folder/data/.prepared" ]; then
    # On a machine that is very busy the tables are sometimes not made at the first try.
    local try
    for try in 1 2 3; do
      rm -rf "$folder/data"
      # Without --no-defaults first, a system instance's settings would be read.
      if mariadb-install-db --no-defaults "${as_user[@]}" --datadir="$folder/data" \
        --auth-root-authentication-method=normal --skip-test-db --skip-name-resolve >"$folder/install.log" 2>&1; then
        break
      fi
      echo "the private MariaDB's tables could not be made (try $try); the log says:" >&2
      grep -iE 'error|fail|warn' "$folder/install.log" | head -n 10 >&2 || true
      [ "$try" -lt 3 ] || { tail -n 20 "$folder/install.log" >&2; exit 1; }
    done
    touch "$folder/data/.prepared"
  fi
  rm -f "$folder/pid"
  mariadbd --no-defaults "${as_user[@]}" --datadir="$folder/data" --socket="$folder/sock" \
    --pid-file="$folder/pid" --log-error="$folder/mariadb.err" --bind-address=127.0.0.1 --port="$port" \
    --skip-name-resolve --skip-log-bin --open-files-limit=8192 --performance-schema=OFF \
    --character-set-server=utf8mb4 --collation-server=utf8mb4_unicode_ci --max-connections=200 \
    --innodb-buffer-pool-size=64M "${extra[@]}" "${more[@]}" >/dev/null 2>&1 </dev/null &
  local child=$!
  for _ in $(seq 1 600); do
    # A member of a cluster answers before it takes statements.
    if answers && mariadb --no-defaults --socket="$folder/sock" --user=root -e "
        CREATE USER IF NOT EXISTS 'merismos'@'127.0.0.1' IDENTIFIED BY 'merismos';
        GRANT ALL ON \`merismos%\`.* TO 'merismos'@'127.0.0.1';
        CREATE DATABASE IF NOT EXISTS merismos;
        DROP USER IF EXISTS 'root'@'127.0.0.1', 'root'@'::1';" 2>"$folder/first.log"; then
      return 0
    fi
    if ! kill -0 "$child" 2>/dev/null; then
      echo "the private MariaDB ended; the last lines of $folder/mariadb.err:" >&2
      tail -n 10 "$folder/mariadb.err" >&2 || true
      exit 1
    fi
    sleep 0.1
  done
  cat "$folder/first.log" >&2 2>/dev/null || true
  echo "the private MariaDB did not answer within 60 s; see $folder/mariadb.err" >&2
  exit 1
}

stop() {
  is_running || return 0
  local pid
  pid=$(cat "$folder/pid")
  kill "$pid"
  for _ in $(seq 1 300); do
    kill -0 "$pid" 2>/dev/null || return 0
    sleep 0.1
  done
  echo "the private MariaDB (process $pid) did not end within 30 s" >&2
  exit 1
}

case $action in
  start) start "${3:-}" "${4:-}" ;;
  stop) stop ;;
  *) echo "start or stop, not $action" >&2; exit 2 ;;
esac
