# make test does everything the tests need and runs them; make help lists the rest.
export CGO_ENABLED := 0
export GOARM := 7

.PHONY: build test setup lint race cover emulated dist bench compare fuzz screenshots schema examples help

VERSION := $(shell git describe --tags --dirty 2>/dev/null)
COMMIT := $(shell git describe --always --abbrev=12 --exclude '*' 2>/dev/null)
DATE := $(shell git log -1 --format=%cs 2>/dev/null)
LINK := -s -w -X vividstrain/cli.version=$(VERSION) -X vividstrain/cli.commit=$(COMMIT) -X vividstrain/cli.date=$(DATE)

build: ## the program, ./vividstrain
	go build -trimpath -ldflags "$(LINK)" -o vividstrain .

# The program first, since its tests build it too, which would compile everything twice at the same time.
# Without vet, which goes through all dependencies: make lint has it.
test: setup ## all tests
	go build -o /dev/null .
	go test -vet=off -timeout 20m ./...

# The tests of decoders and muxers have a browser judge them, those of h265 streams another decoder; those
# of player programs need a screen.
setup: build/h265-reference ## what the tests need from Debian
	@command -v chromium >/dev/null || { apt-get update -q && apt-get install -qy --no-install-recommends chromium; }
	@command -v Xvfb >/dev/null || { apt-get update -q && apt-get install -qy --no-install-recommends xvfb; }

build/h265-reference: core/media/codec/hevc/reference/main.c
	@test -e /usr/include/libde265/de265.h && command -v gcc >/dev/null || { apt-get update -q && apt-get install -qy --no-install-recommends gcc libc6-dev libde265-dev; }
	@mkdir -p build
	gcc -O1 -Wall -o $@ $< -lde265

# The platforms beside this one that the program is made for; 32-bit ARM is in many devices.
OTHERS := linux/arm64 linux/arm linux/riscv64 windows/amd64 darwin/arm64
PLATFORMS := linux/amd64 $(OTHERS)

# What build constraints tell apart; the other platforms have the same files as one of these.
VETTED := linux/arm64 linux/arm windows/amd64 darwin/arm64
CONSTRAINED := $(addprefix ./,$(sort $(dir $(shell git ls-files '*_linux.go' '*_windows.go' '*_darwin.go' '*_unix.go' '*_bsd.go' '*_other.go' '*_amd64.go' '*_arm64.go'))))

lint: ## format, vet for every kind of platform, staticcheck
	@test -z "$$(gofmt -l .)" || { echo "gofmt these:"; gofmt -l .; exit 1; }
	go vet ./...
	@for p in $(VETTED); do echo "go vet for $$p"; GOOS=$${p%/*} GOARCH=$${p#*/} go vet -trimpath $(CONSTRAINED) || exit 1; done
	go tool staticcheck ./...

# All that runs at the same time, under the race detector; it needs a C compiler. Of the codecs only
# the decoding of a few streams: all else of them takes ten times as long with it.
RACE := ./core/clock ./core/load ./core/logbook ./core/media/codec/framepool ./core/media/codec/threads \
	./core/partial ./core/route/... ./core/run/... ./core/search ./core/sense/... ./core/tally ./core/transcode/groups \
	./core/verdict ./report/...

# Long tests, which take minutes under the race detector; shorter ones run the same code.
SLOW := AllForms|ConversionsAreWatched|FindsTheTrueCeiling|OldBrowsers|CountEachFrame|SwappedPictures|QuickClimbs|FrontierIsTrue|LongRunsAreThinned|CountedOnTheScreen|JumpsAreTimed

race: ## tests under the race detector
	@command -v gcc >/dev/null || { apt-get update -q && apt-get install -qy --no-install-recommends gcc libc6-dev; }
	CGO_ENABLED=1 go test -race -skip '$(SLOW)' $(RACE)
	CGO_ENABLED=1 go test -race -run 'IdleSessionsEnd|WhoLeave' ./core/mediaserver
	CGO_ENABLED=1 go test -race -run 'Foreign' ./core/media/codec/h264 ./core/media/codec/hevc
	CGO_ENABLED=1 go test -race -run 'Keys|Progress|Moment|Hand' ./cli

cover: ## which lines the tests of each package run: cover.html
	go test -coverprofile cover.out ./core/... ./report/...
	go tool cover -html cover.out -o cover.html
	@go tool cover -func cover.out | tail -1

# The core's tests for the processors of many devices, emulated: 32-bit integers, alignment of
# atomics, the assembly of arm64, the code without any. Without what takes minutes on an emulated processor.
EMULATED := ./core/clock ./core/load ./core/logbook ./core/media ./core/media/codec/aac ./core/media/codec/bits \
	./core/media/codec/cabac ./core/media/codec/framepool ./core/media/codec/motion ./core/media/codec/nal \
	./core/media/codec/raw ./core/media/codec/threads ./core/media/container/annexb ./core/media/container/mkv \
	./core/media/container/ts ./core/media/container/y4m ./core/media/inspect ./core/media/picture ./core/media/stream/... \
	./core/search ./core/sense ./core/tally ./core/transcode/groups ./core/verdict
# A long one, whose arithmetic others cover.
SKIPPED := -skip ScaledPicturesShowTheSame
EMULATED_CODECS := -run 'Foreign|Tables|RoundTrip|Levels|List|Marking|Kernels|FastSearch' ./core/media/codec/h264 ./core/media/codec/hevc

emulated: ## the core's tests for arm64 and armv7
	@command -v qemu-arm-static >/dev/null || { apt-get update -q && apt-get install -qy --no-install-recommends qemu-user-static; }
	GOARCH=arm64 go test -trimpath -exec qemu-aarch64-static $(SKIPPED) $(EMULATED)
	GOARCH=arm64 go test -trimpath -exec qemu-aarch64-static $(EMULATED_CODECS)
	GOARCH=arm go test -trimpath -exec qemu-arm-static $(SKIPPED) $(EMULATED)
	GOARCH=arm go test -trimpath -exec qemu-arm-static $(EMULATED_CODECS)

dist: ## static programs for all platforms, with checksums, in dist/
	@rm -rf dist && mkdir dist
	@for p in $(PLATFORMS); do \
		os=$${p%/*} arch=$${p#*/} name=$${p#*/}; end=; \
		test $$arch != arm || name=armv7; test $$os != windows || end=.exe; \
		echo "dist/vividstrain-$$os-$$name$$end"; \
		GOOS=$$os GOARCH=$$arch go build -trimpath -ldflags "$(LINK)" -o dist/vividstrain-$$os-$$name$$end . || exit 1; \
	done
	@cd dist && sha256sum vividstrain-* > SHA256SUMS

bench: ## all benchmarks
	go test -run '^$$' -bench . ./...

# What takes time, against an earlier commit: make compare BASE=COMMIT. The table is to go into docs/performance.md,
# from which the chart is drawn.
compare: ## the benchmarks of this working copy against those of an earlier commit, in turns
	scripts/compare.sh $(BASE)

docs/performance.png: docs/performance.md
	go run ./scripts/chart $@ < $<

# Ten minutes for each parser; FUZZTIME=30s for a first look. Which lines run depends on the order of
# threads too, so that every input looks new: none is made smaller, which would take all the time.
FUZZTIME ?= 10m
fuzz: ## nonsense for all parsers
	@grep -rl --include='*_test.go' '^func Fuzz' . | while read f; do \
		for t in $$(grep -o '^func Fuzz[A-Za-z0-9]*' $$f | cut -c6-); do \
			go test -run '^$$' -fuzz "^$$t\$$" -fuzztime $(FUZZTIME) -fuzzminimizetime 1x $$(dirname $$f) || exit 1; \
		done; \
	done

examples: build ## every command of the README and of the help texts, as typed, in a fresh home
	scripts/examples.sh

screenshots: build ## the pictures of docs/screenshots, from a real terminal window
	scripts/screenshots.sh

schema: ## the schema of run documents
	go run . schema > docs/run-document.schema.json

help: ## this list
	@grep -E '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 14
