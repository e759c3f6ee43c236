#!/usr/bin/env bash
# Installs what is missing: scripts/setup.sh console | lint | corpora | test | screenshots
set -euo pipefail
cd "$(dirname "$0")/.."

# debian PACKAGE COMMAND … installs the packages whose commands are missing.
debian() {
  local missing=()
  while [ $# -gt 0 ]; do
    command -v "$2" >/dev/null || missing+=("$1")
    shift 2
  done
  [ ${#missing[@]} -eq 0 ] && return
  local sudo=""
  [ "$(id -u)" -eq 0 ] || sudo="sudo"
  command -v apt-get >/dev/null || { echo "please install: ${missing[*]}" >&2; exit 1; }
  echo "installing ${missing[*]}"
  $sudo apt-get update -qq
  DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
}

case "${1:-}" in
console) # what the console is built of
  debian nodejs node npm npm
  (cd console && npm ci --omit=dev --ignore-scripts --no-audit --no-fund --loglevel error)
  touch console/node_modules/.stamp
  ;;
lint) # and what it is checked by
  debian nodejs node npm npm
  (cd console && npm ci --ignore-scripts --no-audit --no-fund --loglevel error)
  touch console/node_modules/.stamp console/node_modules/.lint
  ;;
corpora) # what the tests compare with, and nothing of Ullage
  debian nodejs node npm npm
  (cd test/corpora && npm ci --ignore-scripts --no-audit --no-fund --loglevel error)
  ;;
test)
  # The browser without windows, where there is one: it has less to draw.
  debian chromium-headless-shell chromium-headless-shell || debian chromium chromium
  debian build-essential gcc mosquitto-clients mosquitto_pub curl curl openssl openssl unzip unzip strongswan-pki pki
  # Libraries have no commands to look for.
  [ -e /usr/include/mosquitto.h ] || debian libmosquitto-dev no-such-command
  # The plugins with which the client for certificates speaks TLS.
  ls /usr/lib/ipsec/plugins/libstrongswan-openssl.so >/dev/null 2>&1 || debian libstrongswan-standard-plugins no-such-command
  /usr/bin/python3 -c "import paho.mqtt" 2>/dev/null || debian python3-paho-mqtt no-such-command
  ;;
screenshots)
  debian chromium-headless-shell chromium-headless-shell || debian chromium chromium
  debian xvfb Xvfb xterm xterm imagemagick import
  ;;
*)
  echo "usage: scripts/setup.sh console | lint | corpora | test | screenshots" >&2
  exit 2
  ;;
esac
