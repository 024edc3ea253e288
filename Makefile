# make demo   builds, starts the service with the demo organisation and prints its address
# make check  the quick half of the tests: linters, core and service, without a browser; under two minutes
# make test   everything that must hold: linters, unit tests, end-to-end tests; about twenty minutes
# make package  the Debian package, in bin
# make soak   the long forms of the tests, by hand: all sizes, and every fuzz target for ten minutes

VERSION ?= $(shell git describe --always --dirty --tags 2>/dev/null || echo development)
GOFLAGS_BUILD = -trimpath -ldflags "-s -w -X missivum/cli.Version=$(VERSION)"
NPM = npm --no-fund --no-audit --loglevel=error

.PHONY: package build demo test check soak setup console lint screenshots fuzz bench docs clean

build: console
	go build $(GOFLAGS_BUILD) -o bin/missivum .

demo: build
	./bin/missivum demo

# Debian packages that the tests and screenshots need; nothing happens when they are there.
setup:
	sh scripts/setup.sh

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	cd console && $(NPM) ci
	@touch $@

console: console/dist/index.html

CONSOLE_SOURCES = $(shell find console/src console/public -type f) console/index.html console/vite.config.ts service/api/openapi.yaml

console/dist/index.html: console/node_modules/.package-lock.json $(CONSOLE_SOURCES)
	cd console && $(NPM) run --silent types && rm -rf dist/assets && $(NPM) run --silent build
	@touch $@

lint: console
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -d $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	go tool staticcheck ./...
	cd console && $(NPM) run --silent check && $(NPM) run --silent lint

# Without a browser, and what was tested before and has not changed is not tested again.
check: lint
	go test ./core/... ./desk/... ./service/... ./cli/... ./demo/... ./docs/generate/...

# e2e takes longest, so it begins first.
test: setup lint
	go test -count=1 -timeout 45m ./e2e ./...

soak: setup
	MISSIVUM_SOAK=1 go test -count=1 -timeout 4h ./...
	$(MAKE) fuzz FUZZTIME=10m

# Every fuzz target for a short while; FUZZTIME=10m for longer.
FUZZTIME ?= 20s
fuzz:
	FUZZTIME=$(FUZZTIME) sh scripts/fuzz.sh

bench:
	go test -run '^$$' -bench . ./core/...

# The reference pages that come from the program itself.
docs:
	go run ./docs/generate

screenshots: setup console
	go run ./e2e/screenshots

clean:
	rm -rf bin console/dist/assets console/dist/*.html console/dist/*.svg console/node_modules

# The Debian package, in bin.
package: build
	go run ./packaging
