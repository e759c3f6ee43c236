#!/usr/bin/env bash
# Makes static binaries in dist/, each packed with its licence, and their check
# sums. The console must have been built.
set -euo pipefail
cd "$(dirname "$0")/.."
rm -rf dist
mkdir -p dist
for target in linux/amd64 linux/arm64 linux/arm darwin/amd64 darwin/arm64 windows/amd64 windows/arm64; do
  os=${target%/*} arch=${target#*/}
  name=ullage-$VERSION-$os-$arch
  [ "$os" = windows ] && name=$name.exe
  echo "building $name"
  CGO_ENABLED=0 GOOS=$os GOARCH=$arch GOARM=7 go build -trimpath -ldflags "$LDFLAGS" -o "dist/$name" ./cmd/ullage
done
(cd dist && sha256sum ullage-* >SHA256SUMS)
cat dist/SHA256SUMS
