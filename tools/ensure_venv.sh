#!/bin/sh
# Makes .venv; installs Debian's venv package first where Python lacks it.
set -e
python=$(command -v python3.11 || command -v python3) || { echo "Python 3.11 is needed." >&2; exit 1; }
if ! "$python" -m venv .venv 2>/dev/null; then
  rm -rf .venv
  sudo=""; [ "$(id -u)" = 0 ] || sudo=sudo
  $sudo apt-get update -qq && $sudo apt-get install -y -qq --no-install-recommends python3-venv
  "$python" -m venv .venv
fi
