#!/bin/sh
# Installs Debian's Chromium where there is none.
set -e
command -v chromium >/dev/null && exit 0
sudo=""; [ "$(id -u)" = 0 ] || sudo=sudo
$sudo apt-get update -qq
$sudo env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends chromium
