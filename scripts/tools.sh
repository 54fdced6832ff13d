#!/bin/sh
# Installs what tests and screenshots need beyond Go and Node, from Debian's packages, if it is missing.
set -eu
missing=""
command -v mosquitto >/dev/null || test -x /usr/sbin/mosquitto || missing="$missing mosquitto"
command -v chromium >/dev/null || missing="$missing chromium"
command -v pdftoppm >/dev/null || missing="$missing poppler-utils"
command -v tmux >/dev/null || missing="$missing tmux"
command -v sqlite3 >/dev/null || missing="$missing sqlite3"
command -v cc >/dev/null || missing="$missing gcc libc6-dev"
[ -f /usr/include/modbus/modbus.h ] || missing="$missing libmodbus-dev"
command -v pgrep >/dev/null || missing="$missing procps"
[ -z "$missing" ] && exit 0
echo "Installing$missing …"
as_root=""
[ "$(id -u)" = 0 ] || as_root="sudo"
$as_root apt-get update -qq
# shellcheck disable=SC2086 # the list is split on purpose
DEBIAN_FRONTEND=noninteractive $as_root apt-get install -y -qq --no-install-recommends $missing >/dev/null
