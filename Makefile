# Verbs: build demo test races disasters disaster planted review lot bars screenshots pictures lint. Everything a verb needs is installed by it.

GO_FILES := $(shell find . -name '*.go' -not -path './console/node_modules/*')
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)

.PHONY: build demo test races disasters disaster planted review lot bars screenshots pictures lint clean

build: bin/usher

bin/usher: $(GO_FILES) go.mod go.sum api/openapi.yaml console/dist/index.html $(wildcard demo/*/*.yaml instrument/dialect/dialects/*.yaml)
	go build -ldflags "-X usherbench/service.Version=$(VERSION)" -o $@ ./cmd/usher

CONSOLE_FILES := $(shell find console/src -type f 2>/dev/null) console/index.html console/vite.config.ts console/package.json

console/node_modules/.installed: console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	touch $@

console/src/api.gen.d.ts: api/openapi.yaml console/node_modules/.installed
	cd console && npx openapi-typescript ../api/openapi.yaml -o src/api.gen.d.ts

console/dist/index.html: $(CONSOLE_FILES) console/src/api.gen.d.ts
	cd console && npm run build --silent
	touch console/dist/.gitkeep

demo: build
	./bin/usher demo

# What looks after outputs, speaks to instruments and keeps records is tested with the race detector too; of the tests
# of the whole service those in which people, runs, line and configuration meet.
RACED := ./engine/... ./instrument/... ./store ./warden ./simulation
MEETING := 'StopAll|BeingPrepared|SetAside|NeedsNoDatabase|NeverGoesOn|IsRoom|FailedWrite|AJournal|ByHand|Reconfiguring|Access|Configured|AStop'

# Those with real sockets, processes, terminals and browsers begin first: they wait most.
FIRST_TESTED := ./console ./cli ./simulation ./service

test: tools build
	GOGC=400 go test -p 3 -timeout 15m $(FIRST_TESTED) ./...

races: console/dist/index.html
	DISASTERS=20 go test -race -p 1 -timeout 15m $(RACED)
	go test -race -timeout 15m -run $(MEETING) ./service

# Disasters in simulated time: as many as asked, one of them again with its timeline, and bugs that must be found.
N ?= 1000
SEED ?= 1

disasters: console/dist/index.html
	GOGC=400 DISASTERS=$(N) go test -count=1 -v -timeout 24h -run '^TestDisasters$$' ./simulation

disaster: console/dist/index.html
	SEED=$(SEED) go test -count=1 -v -run '^TestDisasters$$' ./simulation

planted: console/dist/index.html
	GOGC=400 PLANTED=all go test -count=1 -v -timeout 4h -run '^TestPlantedBugsAreFound$$' ./simulation

# Units with every fault through the design review, twenty of each: docs/validation.md says what it finds.
review: console/dist/index.html
	REVIEWED=all go test -count=1 -timeout 30m -run TestTheDesignReview ./service

# A lot of 96 units through an operator's place, in a browser.
lot: tools build
	LOT=96 go test -count=1 -v -run TestALotIsScanned ./console

bars: tools build
	go test -run '^$$' -bench . -benchtime 1x ./bars

screenshots: tools build
	go run ./docs/screenshots

# Every page of the console in both themes, on a desk and on a phone, for a look at them.
TO ?= /tmp/usher-pictures
pictures: tools build
	go run ./docs/screenshots $(TO)

lint: console/dist/index.html
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); echo 'run gofmt -w on these'; exit 1; }
	@sh scripts/width.sh
	go vet ./...
	go tool staticcheck ./...
	cd console && npm run lint --silent

# Chromium drives the console in tests and screenshots; poppler turns reports into pictures; tmux is the terminal.
.PHONY: tools
tools:
	@sh scripts/tools.sh

clean:
	rm -rf bin console/dist/assets console/dist/index.html console/node_modules
