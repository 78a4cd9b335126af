# Everything a developer does. `make demo` and `make test` install what is missing.

SHELL := /bin/bash
export CGO_ENABLED ?= 0

GO_FILES   := $(shell find cmd internal -name '*.go' -o -name '*.sql' -o -name '*.yaml') go.mod go.sum
CONSOLE    := $(shell find console/src console/public console/index.html console/portal.html console/vite.config.ts console/vite.portal.config.ts console/tsconfig.json -type f ! -name schema.d.ts)

.PHONY: package image build demo test console-ready check console-test bench long vet screenshots soak tools counterparts clean

build: bin/urbankeep

bin/urbankeep: $(GO_FILES) internal/face/web/dist/index.html
	go build -trimpath -ldflags '-s -w -X urbankeep/internal/program.Version=$(shell cat VERSION)' -o $@ ./cmd/urbankeep

internal/face/web/dist/index.html: $(CONSOLE) console/package.json internal/face/web/openapi.yaml console/node_modules/.installed
	cd console && npm run --silent build

console/node_modules/.installed: console/package-lock.json
	cd console && npm ci --no-audit --no-fund
	touch $@

tests/%/node_modules/.installed: tests/%/package-lock.json
	cd tests/$* && npm ci --no-audit --no-fund --ignore-scripts --omit=optional
	touch $@

# What real clients, stores and authorities are tried with comes from npm and as Go modules too.
counterparts: tests/clients/scripts/node_modules/.installed tests/testkit/counterpart/node/node_modules/.installed bin/tools/pebble

bin/tools/pebble:
	GOBIN=$(CURDIR)/bin/tools go install github.com/letsencrypt/pebble/v2/cmd/pebble@v2.10.1

# The clients that the demo and the tests use, and the browser.
tools:
	scripts/install-tools

demo: build
	@scripts/install-tools curl openssh-client >/dev/null
	bin/urbankeep demo -data .demo

# The race detector watches all code but what only computes: the C of the database engine turned
# into Go, password hashes and estimates, the arithmetic of RSA. They share nothing with
# ours, and cost most of the time when they are watched. None of them may use sync.Map or generic
# atomics: their unwatched copies would take the place of everybody's, and hide who waits for whom.
unwatch := modernc.org/sqlite/lib modernc.org/memory golang.org/x/crypto/argon2 golang.org/x/crypto/blake2b golang.org/x/crypto/blowfish golang.org/x/crypto/scrypt github.com/ccojocar/zxcvbn-go/... crypto/internal/fips140/bigmod crypto/internal/fips140/edwards25519/field
RACE    := -race $(foreach package,$(unwatch),-gcflags=$(package)=-race=false)

# PART names one story of tests/, as in make test PART=console, or a package: PART=internal/files/tree.
PART    :=
PARTS   := $(if $(PART),$(if $(wildcard tests/$(PART)),./tests/$(PART)/...,./$(PART)/...),./...)

# Tests wait more than they compute: one package more than there are processors runs at once. What comes from npm is waited for
# while the program is built; go vet looks through all folders, and comes when they are there.
test: tools
	@$(MAKE) --no-print-directory -j2 counterparts $(if $(PART),build,console-ready)
	$(if $(PART),,@$(MAKE) --no-print-directory vet)
	URBANKEEP_TEST_BINARY=$(CURDIR)/bin/urbankeep CGO_ENABLED=1 go test $(RACE) -p $$(( $$(nproc 2>/dev/null || echo 2) + 1 )) -timeout 60m $(PARTS)

console-ready: build
	@$(MAKE) --no-print-directory console-test

# The quick part: no clients, no browser, no whole service.
check: build vet console-test
	go test -timeout 60m $$(go list ./internal/... | grep -v -e /demo$$ -e /program$$)

# The checker of histories, as long as FOR says; SEED repeats a run. It needs root on Linux. With PLANT=name, or PLANT=all, it is
# tried itself: a bug is planted into the program, and it must be found within that time.
FOR     := 5m
SEED    := 0
PLANT   :=
soak: build
	$(if $(PLANT),go run ./scripts/plants -for $(FOR) $(filter-out all,$(PLANT)),$(SOAK))
SOAK     = URBANKEEP_TEST_BINARY=$(CURDIR)/bin/urbankeep go test ./tests/faults -v -count=1 -timeout 0 -run HistoriesAgree -args -soak-for $(FOR) -soak-seed $(SEED) -soak-clock

console-test: console/node_modules/.installed
	cd console && npm run --silent test

vet:
	test -z "$$(gofmt -l cmd internal scripts tests)"
	go vet ./...
	GOOS=windows go vet ./...
	GOOS=darwin go vet ./...

# Packages for administrators, in dist/; KIND and ARCH for just one, as in KIND=deb ARCH=amd64.
package: build
	go run ./scripts/package -kind "$(KIND)" -arch "$(ARCH)"

# The container image for this machine's architecture, or for ARCH, as an OCI archive in dist/.
image: build
	go run ./scripts/package -kind image -arch "$(or $(ARCH),$(shell go env GOARCH))"

bench: build
	go build -o bin/bench ./scripts/bench && bin/bench $(if $(AGAINST),-against "$(AGAINST)") "$(ROWS)"

# What the service holds under mixed load, from the beginning to the end: make long FOR=1h.
long: build
	go build -o bin/bench ./scripts/bench && bin/bench long $(FOR)

# The pictures in docs/screenshots, from the demo.
screenshots: tools build
	mkdir -p docs/screenshots && go run ./scripts/shots

clean:
	rm -rf bin dist .demo console/node_modules internal/face/web/dist/assets internal/face/web/dist/portal internal/face/web/dist/index.html
