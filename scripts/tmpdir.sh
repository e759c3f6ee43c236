#!/usr/bin/env bash
# Prints where the folders of tests go: into memory where there is room, since what is
# tested is Ullage and not a disk that others may be using; else where they go anyway.
set -euo pipefail

roomy() { # 4 GB of it, and twice that of memory, in a folder that programs may be run from
  local free available try
  free=$(df --output=avail -k "$1" 2>/dev/null | tail -1) || return 1
  available=$(awk '/^MemAvailable/ { print $2 }' /proc/meminfo 2>/dev/null) || return 1
  [ "${free:-0}" -gt 4000000 ] && [ "${available:-0}" -gt 8000000 ] || return 1
  try=$(mktemp "$1/ullage-XXXXXX") || return 1
  printf '#!/bin/sh\n' >"$try"
  chmod +x "$try"
  "$try" 2>/dev/null || { rm -f "$try"; return 1; }
  rm -f "$try"
}

if [ -z "${TMPDIR:-}" ] && roomy /dev/shm; then
  echo /dev/shm
else
  echo "${TMPDIR:-/tmp}"
fi
