#!/usr/bin/env bash
# Builds bin/ullage. Go and the console are built at the same time, and what is
# up to date is left alone.
set -euo pipefail
cd "$(dirname "$0")/.."

begun=$SECONDS
say() { printf '%3d s  %s\n' $((SECONDS - begun)) "$1"; }

# Everything that does not have the console inside is compiled meanwhile; it is
# replaced file by file at this time, and must not be looked at.
compile() {
  say "fetching the Go modules that are missing, and compiling Ullage"
  local all
  all=$(go list -deps -f '{{if not .Standard}}{{.ImportPath}}{{end}}' ./cmd/ullage | grep -vE '^ullage/(console|server|cli|cmd/.*)$')
  # shellcheck disable=SC2086 # it is a list
  GOGC=off GOMEMLIMIT=700MiB go build $all # quicker, for some more memory
}

console() {
  if [ ! -e console/node_modules/.stamp ] || [ console/package-lock.json -nt console/node_modules/.stamp ]; then
    say "fetching the modules of the console"
    scripts/setup.sh console
  fi
  say "building the console"
  (cd console && npx --no-install vite build --logLevel warn)
}

compile &
go=$!
if ! console; then
  kill $go 2>/dev/null || true
  exit 1
fi
wait $go
say "putting the console into bin/ullage"
go build -ldflags "$LDFLAGS" -o bin/ullage ./cmd/ullage
say "done"
