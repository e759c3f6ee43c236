# Everything is built without cgo: one static binary, and no C compiler needed.
export CGO_ENABLED = 0
# The web framework leaves out its MessagePack codec, which nobody speaks here and
# which takes a seventh of the time of a first build. Tables for debuggers take as
# long again.
export GOFLAGS += -tags=nomsgpack -gcflags=all=-dwarf=false -ldflags=-s
VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo 0.1.0-dev)
LDFLAGS = -s -w -X ullage/server.Version=$(VERSION)

.PHONY: demo test race build dist bench attack coldstart lint lint-go lint-console screenshots types setup fuzz clean

demo: build ## build, start the service with the simulated fleet, run until Ctrl-C
	@bin/ullage demo $(ARGS)

# The folders of tests are in memory where there is room: a disk is not what is tested.
test race: export TMPDIR := $(shell scripts/tmpdir.sh)
test: build ## everything: lint, unit tests, end-to-end tests
	@scripts/setup.sh test
	@$(MAKE) --no-print-directory -j3 -O test/corpora/node_modules/.stamp lint
	go test -vet off -parallel 4 -timeout 18m ./...
	go test -vet off ./test/attack -args -hard 1
	@$(MAKE) --no-print-directory race

# What goroutines share, once more under the race detector, in short sizes. It
# is the one thing here that needs a C compiler. Packages whose tests do one thing
# after the other are left out: app and api drive them from many goroutines. SQLite
# itself, which came from C by a translator, is not watched: that took three quarters of
# the time.
RACED = ./app ./api $(addprefix ./fleet/,access alarms bulk commands commit event ingest joining links logs \
	people present replays settings) ./store ./transport/... ./device
race: export CGO_ENABLED = 1
race: ## the race detector over what goroutines share
	go test -vet off -race -short -parallel 4 -timeout 10m "-gcflags=modernc.org/...=-dwarf=false -race=false" $(RACED)

build: ## bin/ullage, one binary with the console inside
	@LDFLAGS='$(LDFLAGS)' scripts/build.sh

dist: build ## static binaries with check sums, for Linux, macOS and Windows
	@LDFLAGS='$(LDFLAGS)' VERSION='$(VERSION)' scripts/dist.sh

console/node_modules/.lint: console/package-lock.json
	@scripts/setup.sh lint

lint: lint-go lint-console

lint-go:
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { echo "not gofmt'ed:"; gofmt -l $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	GOGC=300 go tool staticcheck ./... # a quarter quicker, for some more memory

lint-console: console/node_modules/.lint
	cd console && npx --no-install tsc --noEmit && npx --no-install eslint --max-warnings 0 src && npx --no-install prettier --check --log-level warn src

test/corpora/node_modules/.stamp: test/corpora/package-lock.json
	@scripts/setup.sh corpora
	@touch $@

bench: build ## every figure with its target and its ratio to a ceiling of the same run
	@scripts/setup.sh test
	go run ./test/bench $(ARGS)

screenshots: build ## docs/screenshots, from the demo's data
	@scripts/setup.sh screenshots
	go run ./test/shots

attack: build ## the attacks of test/attack at length, for five minutes or so
	go test ./test/attack -count 1 -v -timeout 60m -args -hard 20

coldstart: ## how long make demo takes on a machine that has nothing yet
	@scripts/coldstart.sh

types: console/node_modules/.lint ## the console's types and the API document, from the code
	go run ./cmd/ullage openapi > console/src/api/openapi.json
	cd console && npx --no-install openapi-typescript src/api/openapi.json -o src/api/schema.d.ts

fuzz: ## every fuzz target for a while
	@scripts/fuzz.sh $(or $(FUZZTIME),20s)

clean:
	rm -rf bin dist console/dist/assets console/dist/index.html console/node_modules test/corpora/node_modules
