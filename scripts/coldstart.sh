#!/usr/bin/env bash
# How long `make demo` takes on a machine that has nothing yet: a fresh clone,
# with caches of its own, until the console can be opened.
set -euo pipefail
cd "$(dirname "$0")/.."
dir=$(mktemp -d)
pid=""
tidy() {
  if [ -n "$pid" ]; then kill -INT -- "-$pid" 2>/dev/null || true; fi
  sleep 1
  chmod -R u+w "$dir" 2>/dev/null || true
  rm -rf "$dir"
}
trap tidy EXIT
git clone -q . "$dir/ullage"
begun=$SECONDS
set -m
HOME=$dir/home GOMODCACHE=$dir/modules GOCACHE=$dir/cache npm_config_cache=$dir/npm \
  make -C "$dir/ullage" demo >"$dir/log" 2>&1 &
pid=$!
set +m
for _ in $(seq 600); do
  if grep -q "Sign in as" "$dir/log"; then
    echo "make demo, from a fresh clone with empty caches: $((SECONDS - begun)) s until the console can be opened"
    exit 0
  fi
  if ! kill -0 "$pid" 2>/dev/null; then break; fi
  sleep 1
done
tail -20 "$dir/log"
echo "the demo was not ready"
exit 1
