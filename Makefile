# What a fresh Debian 12 with Go, Node and npm needs is installed by the targets.
# Debian packages are installed by apt-get, which needs root; as an ordinary
# user, install what a target asks for first.

GO_FILES := $(shell find cmd internal console/console.go test -name '*.go' -o -name '*.sql')
CONSOLE_FILES := $(shell find console/src console/public -type f 2>/dev/null) console/index.html console/vite.config.ts console/tsconfig.json
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo development)
STATICCHECK := honnef.co/go/tools/cmd/staticcheck@v0.8.2

# What developers run on their own machines: the tests of the service run on Linux alone.
CLIENT_SIDE := ./cmd/... ./internal/cli/... ./internal/client/... ./internal/api/... ./internal/core/... ./internal/ecosystem/...

# The program is static, and what tests, checks and packages compile is the same: all of it is compiled once.
export CGO_ENABLED := 0
export GOFLAGS := $(filter-out -trimpath,$(GOFLAGS)) -trimpath

# What packages and images are of.
OF = --version $(VERSION) --at $$(git log -1 --format=%ct)

.PHONY: build demo dev test ready ci race bench soak package image lint screenshots clean help

build: bin/crelvo ## build the program, with the console in it

help: ## tell what can be made
	@awk -F ':.*## ' '/^[a-z]+:.*## / {printf "  make %-12s %s\n", $$1, $$2}' $(MAKEFILE_LIST)

bin/crelvo: $(GO_FILES) console/dist/index.html go.mod go.sum
	go build -ldflags "-X crelvo/internal/cli.Version=$(VERSION)" -o $@ ./cmd/crelvo

console/node_modules/.done: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund
	touch $@

# The console's types are made from the API's own description.
console/src/api/schema.gen.ts: $(wildcard internal/api/*.go internal/web/*.go) console/node_modules/.done
	go run ./cmd/crelvo openapi > console/openapi.json
	cd console && npm run --silent types

console/dist/index.html: $(CONSOLE_FILES) console/src/api/schema.gen.ts console/node_modules/.done
	cd console && npx tsc --noEmit && npx vite build --logLevel warn

demo: build ## start it with demo data on http://127.0.0.1:8700
	@./test/install.sh run
	bin/crelvo demo

dev: build ## work on it: what changes in console and service is shown at once, on http://127.0.0.1:5173
	@./test/install.sh run
	@./test/dev.sh

# The clients of images that the tests drive, and the test of the specification.
test/clients/bin/.done: test/clients/go.mod test/clients/go.sum
	cd test/clients && GOBIN="$$PWD/bin" go install tool
	touch $@

# The package clients that the tests drive, besides those that Debian has.
test/clients/node_modules/.done: test/clients/package.json test/clients/package-lock.json
	cd test/clients && npm ci --no-audit --no-fund --ignore-scripts
	touch $@

test: build test/clients/node_modules/.done test/clients/bin/.done ## run all tests, with the real clients and a browser
	@./test/install.sh run test
	go test -count=1 -timeout 40m -parallel 3 ./test/e2e ./...
	cd packaging && go test -count=1 ./...

# What the tests need besides the program: it comes while form and types are checked.
ready: test/clients/node_modules/.done test/clients/bin/.done
	@./test/install.sh run test

ci: ## check form and types, and run all tests
	$(MAKE) --jobs=2 lint ready
	$(MAKE) test

race: export CGO_ENABLED := 1
race: build ## run the tests below the whole program under the race detector
	@./test/install.sh run test
	go test -race -count=1 -timeout 30m ./internal/...

bench: build test/clients/bin/.done ## measure speed against nginx and plain files
	@./test/install.sh run bench
	go run ./test/bench

soak: build test/clients/node_modules/.done test/clients/bin/.done ## kill it fifty times, and while 20 GiB are sent; do what can be done in 200 random orders, and have three sites in step over bad lines
	@./test/install.sh run test
	CRELVO_SOAK=1 go test -count=1 -timeout 120m -run 'TestKill|TestModel|TestSites|TestFileSetKilled' -v ./internal/service ./test/...

package: console/dist/index.html ## make what it is installed from, in dist/: programs, packages, list of contents, checksums
	cd packaging && go run . $(OF)

image: console/dist/index.html ## make dist/crelvo-image.tar, a container image as an OCI archive
	cd packaging && go run . $(OF) --image crelvo-image.tar

lint: console/dist/index.html ## check form and types, for each system that the command line runs on
	test -z "$$(gofmt -l cmd internal packaging test console/*.go)" || { gofmt -l cmd internal packaging test console/*.go; exit 1; }
	go vet ./...
	cd packaging && go vet ./...
	go test ./internal
	go run $(STATICCHECK) ./...
	go run ./test/platforms $(CLIENT_SIDE)
	cd console && npx prettier --check --log-level warn . && npx tsc --noEmit

screenshots: build ## take the pictures of docs/screenshots from the demo
	@./test/install.sh run test screenshots
	go run ./test/screenshots

clean: ## remove what was built
	rm -rf bin dist .dev console/node_modules console/dist/assets console/dist/*.html console/dist/*.svg console/src/api/schema.gen.ts console/openapi.json
