#!/bin/sh
# Installs Debian's PostgreSQL programs where there are none; starts nothing.
set -e
ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 && exit 0
sudo=""; [ "$(id -u)" = 0 ] || sudo=sudo
echo "Fetching PostgreSQL's programs…"
$sudo apt-get update -qq
$sudo env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends postgresql >/dev/null
