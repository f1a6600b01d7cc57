#!/bin/sh
# Installs Debian's PostgreSQL, Redis and nginx where they lack; starts nothing.
set -e
ls /usr/lib/postgresql/*/bin/initdb /usr/bin/redis-server /usr/sbin/nginx >/dev/null 2>&1 && exit 0
sudo=""; [ "$(id -u)" = 0 ] || sudo=sudo
echo "Fetching the programs of PostgreSQL, Redis and nginx…"
$sudo apt-get update -qq
$sudo env DEBIAN_FRONTEND=noninteractive RUNLEVEL=1 apt-get install -y -qq --no-install-recommends \
  postgresql redis-server nginx-light >/dev/null
