# make test does everything the tests need and runs them.
export CGO_ENABLED := 0

VERSION := $(shell git describe --tags --always --dirty 2>/dev/null)

.PHONY: build test check bench fuzz screenshots setup

build:
	go build -trimpath -ldflags "-s -w -X vividstrain/cli.version=$(VERSION)" -o vividstrain .

test: setup check
	go test ./...

# The tests of decoder and muxers have a browser judge them.
setup:
	@command -v chromium >/dev/null || { apt-get update -q && apt-get install -qy --no-install-recommends chromium; }

check:
	@test -z "$$(gofmt -l .)" || { echo "gofmt these:"; gofmt -l .; exit 1; }
	go vet ./...
	GOOS=windows go vet ./... && GOOS=darwin go vet ./... && GOARCH=arm64 go vet ./...

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
