#!/usr/bin/env bash
# A pair of nodes on a network of its own on this machine, to pull cables of: network namespaces behind a bridge, as root.
#   demo/pair.sh up                  two nodes (north, south), two servers behind them, a router, a client; everything under .run-pair/
#   demo/pair.sh at NODE COMMAND...  runs a command on a machine: north, south, servers, router or client; `merismos` talks to that node
#   demo/pair.sh cable NODE out|in   pulls a machine's cable, or plugs it in again
#   demo/pair.sh kill NODE           ends a node as a power cut would; `start NODE` starts it again, `stop NODE` stops it in order
#   demo/pair.sh visit SECONDS [ADDRESS]  a client asks for a page 50 times a second, and says for how long nothing answered
#   demo/pair.sh routes              where the router sends what is for the addresses that the nodes announce
#   demo/pair.sh down                ends everything and removes the network
set -euo pipefail
cd "$(dirname "$0")/.."

run=${MERISMOS_RUN:-$PWD/.run-pair}
bin=${CARGO_TARGET_DIR:-$PWD/target}/release
prefix=merismos
api=127.0.0.1:7480

say() { printf '%s\n' "$*"; }
fail() { printf 'pair: %s\n' "$*" >&2; exit 1; }
in_() { local machine=$1; shift; ip netns exec "$prefix-$machine" "$@"; }
is_node() { [ "$1" = north ] || [ "$1" = south ] || fail "there are the nodes north and south, found $1"; }

machine() { # name number
  local space=$prefix-$1
  ip netns add "$space"
  ip -n "$prefix-switch" link add name "$1" type veth peer name eth0 netns "$space"
  ip -n "$prefix-switch" link set "$1" master switch up
  in_ "$1" sysctl -qw net.ipv6.conf.eth0.accept_dad=0
  ip -n "$space" link set lo up
  ip -n "$space" link set eth0 up
  ip -n "$space" address add "192.0.2.$2/24" dev eth0
  ip -n "$space" address add "2001:db8::$2/64" dev eth0
}

network() {
  ip netns add "$prefix-switch"
  in_ switch ip link add name switch type bridge stp_state 0 forward_delay 0 mcast_snooping 0
  in_ switch ip link set switch up
  machine north 1
  machine south 2
  machine servers 51
  machine client 60
  machine router 254
  in_ router sysctl -qw net.ipv4.ip_forward=1 net.ipv6.conf.all.forwarding=1 net.ipv4.conf.all.send_redirects=0 net.ipv4.conf.eth0.send_redirects=0 \
    net.ipv4.fib_multipath_hash_policy=1 net.ipv6.fib_multipath_hash_policy=1
  in_ client sysctl -qw net.ipv6.conf.eth0.accept_redirects=0
  in_ client ip route add 198.51.100.0/24 via 192.0.2.254
  in_ client ip -6 route add 2001:db8:51::/64 via 2001:db8::254
}

launch() { # name command...
  local name=$1
  shift
  setsid "$@" >>"$run/$name.log" 2>&1 </dev/null &
  echo $! >"$run/$name.pid"
}

end() { # name signal
  [ -f "$run/$1.pid" ] || return 0
  local pid
  pid=$(cat "$run/$1.pid")
  kill "-$2" "$pid" 2>/dev/null || true
  for _ in $(seq 1 200); do
    kill -0 "$pid" 2>/dev/null || break
    sleep 0.05
  done
  rm -f "$run/$1.pid"
}

wait_for() { # what command...
  local what=$1
  shift
  for _ in $(seq 1 300); do
    if "$@" >/dev/null 2>&1; then return 0; fi
    sleep 0.1
  done
  fail "$what did not happen within 30 s; the logs are in $run"
}

start() { # node
  mkdir -p -m 700 "$run/$1"
  # All nodes share the secret that seals what the database keeps.
  if [ "$1" = south ] && [ ! -f "$run/south/store-secret" ]; then cp "$run/north/store-secret" "$run/south/"; fi
  MERISMOSD_DATABASE="mysql://root@localhost/merismos?socket=$run/mariadb/sock" \
    launch "$1" ip netns exec "$prefix-$1" "$bin/merismosd" --node "$1" --state-folder "$run/$1" --api-listen "$api" --grace 5s
  wait_for "the start of $1" at "$1" merismos node list --json
}

at() { # machine command...
  local machine=$1 program=$2
  shift 2
  if [ "$program" = merismos ]; then
    set -- "$bin/merismos" --url "http://$api" --token "$(cat "$run/$machine/first-token")" "$@"
  else
    set -- "$program" "$@"
  fi
  in_ "$machine" "$@"
}

up() {
  [ "$(id -u)" -eq 0 ] || fail "network namespaces and addresses need root"
  [ ! -e "$run" ] || fail "it is there already: demo/pair.sh down removes it"
  scripts/need.sh mariadbd=mariadb-server ip=iproute2 sysctl=procps curl=curl bird=bird2
  scripts/console.sh
  cargo build --release --locked --bins
  mkdir -m 700 "$run"
  network
  scripts/mariadb.sh start "$run/mariadb" 17318
  launch servers ip netns exec "$prefix-servers" "$bin/merismos-lab" run demo/pair-servers.toml --folder "$run"
  launch router ip netns exec "$prefix-router" bird -f -c demo/pair-router.conf -s "$run/router"
  start north
  start south
  at north merismos apply demo/pair.toml --revision-note "a pair" >"$run/apply.log" || fail "$(cat "$run/apply.log")"
  wait_for "the address being held" at north merismos address status
  say "The pair is up. Try:"
  say "  demo/pair.sh visit 20 &"
  say "  demo/pair.sh at south merismos address status"
  say "  demo/pair.sh cable north out"
  say "  demo/pair.sh routes"
}

down() {
  for name in north south servers router; do end "$name" TERM; done
  if [ -f "$run/mariadb/pid" ]; then scripts/mariadb.sh stop "$run/mariadb" || true; fi
  for machine in north south servers client router switch; do ip netns delete "$prefix-$machine" 2>/dev/null || true; done
  rm -rf "$run"
}

visit() { # seconds address
  local until=$(($(date +%s) + $1)) last=0 now longest=0 answers=0 misses=0
  while [ "$(date +%s)" -lt "$until" ]; do
    if in_ client curl -s -o /dev/null -m 0.1 "http://$2/"; then
      now=$(date +%s%3N)
      if [ "$last" -gt 0 ] && [ $((now - last)) -gt 150 ]; then say "nothing answered for $((now - last)) ms"; fi
      if [ "$last" -gt 0 ] && [ $((now - last)) -gt "$longest" ]; then longest=$((now - last)); fi
      last=$now answers=$((answers + 1))
    else
      misses=$((misses + 1))
    fi
    sleep 0.01
  done
  say "$answers answers, $misses misses; the longest time without an answer was $longest ms"
}

case ${1:-} in
  up) up ;;
  down) down ;;
  at) shift && at "$@" ;;
  visit) visit "${2:-10}" "${3:-192.0.2.10}" ;;
  routes) in_ router ip route show proto bird && in_ router ip -6 route show proto bird ;;
  cable)
    case ${3:-} in
      out) ip -n "$prefix-switch" link set "$2" down ;;
      in) ip -n "$prefix-switch" link set "$2" up ;;
      *) fail "cable NODE out|in" ;;
    esac ;;
  kill) is_node "${2:-}" && end "$2" KILL ;;
  stop) is_node "${2:-}" && end "$2" TERM ;;
  start) is_node "${2:-}" && start "$2" ;;
  *) sed -n '2,10s/^# \{0,1\}//p' "$0" >&2; exit 2 ;;
esac
