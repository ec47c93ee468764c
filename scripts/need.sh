#!/usr/bin/env bash
# Makes sure that programs from Debian's packages are there: scripts/need.sh PROGRAM=PACKAGE...; a package without a program
# of its own is named by one of its files, with its whole path.
# As root it installs what is missing; as anyone else it prints the one command to run and fails.
set -euo pipefail

missing=()
for pair in "$@"; do
  program=${pair%%=*}
  package=${pair#*=}
  # mariadbd lives in /usr/sbin, which is not on every user's PATH.
  # A whole path may be a program or not.
  if ! [ -e "$program" ] && ! PATH="$PATH:/usr/sbin:/usr/local/sbin" command -v "$program" >/dev/null 2>&1; then
    missing+=("$package")
  fi
done
[ "${#missing[@]}" -gt 0 ] || exit 0

if [ "$(id -u)" -ne 0 ]; then
  echo "missing: ${missing[*]}. Run this once, then try again:" >&2
  echo "  sudo apt-get update && sudo apt-get install --yes --no-install-recommends ${missing[*]}" >&2
  exit 1
fi

echo "installing ${missing[*]} from Debian's packages ..." >&2
export DEBIAN_FRONTEND=noninteractive
# A package must not start a system service of its own: Merismos uses private instances only.
# The policy file is put back as it was found.
policy=/usr/sbin/policy-rc.d
made_policy=no
if [ ! -e "$policy" ]; then
  printf '#!/bin/sh\nexit 101\n' >"$policy"
  chmod 755 "$policy"
  made_policy=yes
fi
remove_policy() { [ "$made_policy" = no ] || rm -f "$policy"; }
trap remove_policy EXIT
log=$(mktemp)
if ! { apt-get update && apt-get install --yes --no-install-recommends "${missing[@]}"; } >"$log" 2>&1; then
  tail -n 20 "$log" >&2
  echo "apt-get could not install ${missing[*]}; its whole output is in $log" >&2
  exit 1
fi
rm -f "$log"
