#!/usr/bin/env bash
# Runs every fuzz target for a time: scripts/fuzz.sh 20s
set -euo pipefail
cd "$(dirname "$0")/.."
grep -rlE '^func Fuzz' --include='*_test.go' . | while read -r file; do
  for target in $(grep -oE '^func Fuzz\w+' "$file" | cut -c6-); do
    echo "== $target in $(dirname "$file")"
    go test -run '^$' -fuzz "^$target\$" -fuzztime "$1" -fuzzminimizetime 1x "$(dirname "$file")"
  done
done
