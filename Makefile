# Everything a developer does. `make demo` and `make test` install what is missing.

SHELL := /bin/bash
export CGO_ENABLED ?= 0

GO_FILES   := $(shell find cmd internal -name '*.go' -o -name '*.sql' -o -name '*.yaml') go.mod go.sum
CONSOLE    := $(shell find console/src console/public console/index.html console/vite.config.ts console/tsconfig.json -type f ! -name schema.d.ts)

.PHONY: package build demo test bench vet screenshots tools clean

build: bin/urbankeep

bin/urbankeep: $(GO_FILES) internal/face/web/dist/index.html
	go build -trimpath -ldflags '-s -w -X urbankeep/internal/program.Version=$(shell cat VERSION)' -o $@ ./cmd/urbankeep

internal/face/web/dist/index.html: $(CONSOLE) console/package.json internal/face/web/openapi.yaml console/node_modules/.installed
	cd console && npm run --silent build

console/node_modules/.installed: console/package-lock.json
	cd console && npm ci --no-audit --no-fund
	touch $@

# The clients that the demo and the tests use, and the browser.
tools:
	scripts/install-tools

demo: build
	@scripts/install-tools curl openssh-client >/dev/null
	bin/urbankeep demo -data .demo

test: tools build vet
	cd console && npm run --silent test
	CGO_ENABLED=1 go test -race -timeout 20m ./...

vet:
	test -z "$$(gofmt -l cmd internal)"
	go vet ./...
	GOOS=windows go vet ./...
	GOOS=darwin go vet ./...

# Packages for administrators, in dist/.
package: build
	go run ./scripts/package

bench: build
	go build -o bin/bench ./scripts/bench && bin/bench "$(ROWS)"

# The pictures in docs/screenshots, from the demo.
screenshots: tools build
	mkdir -p docs/screenshots && go run ./scripts/shots

clean:
	rm -rf bin dist .demo console/node_modules internal/face/web/dist/assets internal/face/web/dist/index.html
