# make test does everything the tests need and runs them.
export CGO_ENABLED := 0

VERSION := $(shell git describe --tags --always --dirty 2>/dev/null)

.PHONY: build test lint race bench fuzz screenshots setup

build:
	go build -trimpath -ldflags "-s -w -X vividstrain/cli.version=$(VERSION)" -o vividstrain .

test: setup
	go test ./...

# The tests of decoder and muxers have a browser judge them.
setup:
	@command -v chromium >/dev/null || { apt-get update -q && apt-get install -qy --no-install-recommends chromium; }

# The platforms beside this one that the program is made for; 32-bit ARM is in many devices.
PLATFORMS := linux/arm linux/arm64 linux/riscv64 windows/amd64 darwin/arm64

lint:
	@test -z "$$(gofmt -l .)" || { echo "gofmt these:"; gofmt -l .; exit 1; }
	go vet ./...
	@for p in $(PLATFORMS); do echo "go vet for $$p"; GOOS=$${p%/*} GOARCH=$${p#*/} go vet ./... || exit 1; done
	go tool staticcheck ./...

# All that runs at the same time, under the race detector; it needs a C compiler. The
# codecs are left out, which take ten times as long with it and are told apart by their
# sums, and the built program.
RACE := ./core/mediaserver ./core/clock ./core/load ./core/logbook ./core/partial ./core/route/... ./core/run \
	./core/search ./core/sense/... ./core/tally ./core/verdict ./report

race:
	@command -v gcc >/dev/null || { apt-get update -q && apt-get install -qy --no-install-recommends gcc libc6-dev; }
	CGO_ENABLED=1 go test -race $(RACE)
	CGO_ENABLED=1 go test -race -run 'Keys|Progress|Moment|Hand' ./cli

bench:
	go test -run '^$$' -bench . ./...

# Ten minutes for each parser; FUZZTIME=30s for a first look.
FUZZTIME ?= 10m
fuzz:
	@grep -rl --include='*_test.go' '^func Fuzz' . | while read f; do \
		for t in $$(grep -o '^func Fuzz[A-Za-z0-9]*' $$f | cut -c6-); do \
			go test -run '^$$' -fuzz "^$$t\$$" -fuzztime $(FUZZTIME) $$(dirname $$f) || exit 1; \
		done; \
	done

# The pictures of docs/screenshots, from a real terminal window.
screenshots: build
	scripts/screenshots.sh
