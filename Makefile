# Ready Ferry. Everything needs Go, Node.js and, for browser tests, apt.
SHELL := /bin/bash
.DEFAULT_GOAL := help
# Everything is built and tested with these: without the message format of Gin that nobody asks for, and with the
# database's own index of words (FTS5), by which transactions are found.
TAGS := nomsgpack,sqlite_fts5
export GOFLAGS := $(GOFLAGS) -tags=$(TAGS)
# Without paths of this machine and symbols: 72 MB become 43.
RELEASE := -trimpath -ldflags "-s -w"
export PLAYWRIGHT_SKIP_BROWSER_DOWNLOAD := 1

.PHONY: help demo build picture test test-go vet test-plain test-race test-mirror test-web test-e2e test-servers browser types release outdated reproducible bench crash fleet crash-fleet chromium FORCE

help: ## this list
	@grep -hE '^[a-z0-9-]+:.*## ' $(MAKEFILE_LIST) | awk -F':.*## ' '{printf "  make %-10s %s\n", $$1, $$2}'

demo: build ## build and start the application with the demo, and print its address
	./bin/readyferry demo

build: bin/readyferry ## build bin/readyferry with the web application in it

# Go knows best what has changed; it is always asked.
bin/readyferry: web/dist/app/index.html FORCE
	go build $(RELEASE) -o $@ ./cmd/readyferry

SOURCES := $(shell find web/src web/public web/index.html web/vite.config.ts -type f ! -name schema.d.ts)
web/dist/app/index.html: web/node_modules/.package-lock.json $(SOURCES)
	cd web && npx vite build --logLevel warn

FORCE:

web/node_modules/.package-lock.json: web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel error

web/openapi/node_modules/.package-lock.json: web/openapi/package-lock.json
	cd web/openapi && npm ci --no-audit --no-fund --loglevel error

e2e/node_modules/.package-lock.json: e2e/package-lock.json
	cd e2e && npm ci --no-audit --no-fund --loglevel error

types: web/openapi/node_modules/.package-lock.json ## make the browser's types from api/openapi.yaml
	cd web/openapi && npm run --silent types

fleet: bin/readyferry ## run a fleet of three on this machine with the demo
	./bin/readyferry fleet demo --fresh

crash-fleet: web/dist/app/index.html ## kill members of a fleet, and cut them off, 50 times under load
	READYFERRY_CRASH_ROUNDS=$(if $(filter 200,$(ROUNDS)),50,$(ROUNDS)) go test -count=1 -timeout 3h -v \
		-run 'WhenAMember.*IsKilled|ThatIsCutOff' ./cmd/readyferry

ROUNDS ?= 200

crash: web/dist/app/index.html ## kill, stop and copy the application 200 times under load, and account for every message
	READYFERRY_CRASH_ROUNDS=$(ROUNDS) go test -count=1 -timeout 3h -run Hardship -v ./cmd/readyferry

# What the tests in a browser need before they begin.
E2E := bin/readyferry bin/readyferry-testsystem e2e/node_modules/.package-lock.json chromium

# As much runs side by side as there are processors, the longest first; what each
# part says comes when it has ended.
test: $(E2E) ## install what tests need and run them all
	$(MAKE) --no-print-directory -j$$(nproc) -Otarget browser test-race test-plain test-mirror vet test-web

test-go: vet test-plain test-race test-mirror ## the tests of Go alone

vet: web/dist/app/index.html
	test -z "$$(gofmt -l $$(git ls-files '*.go'))"
	go vet ./...
	go tool staticcheck ./...

test-plain: web/dist/app/index.html
	go test -timeout 45m $$(go list ./... | grep -v -e '/engine' -e '/store')

# What many do at once is looked at by the race detector.
test-race: web/dist/app/index.html
	go test -race -timeout 45m ./engine/... ./store/...

# Every journal of the engine's tests goes into a log, and a file that follows it must hold the same.
test-mirror: web/dist/app/index.html
	READYFERRY_MIRROR=1 go test -timeout 45m ./engine

test-web: web/node_modules/.package-lock.json types
	git diff --exit-code --stat -- web/src/api/schema.d.ts
	cd web/openapi && REDOCLY_TELEMETRY=off REDOCLY_SUPPRESS_UPDATE_NOTICE=true npm run --silent lint
	cd web && npx tsc --noEmit && npx biome check --error-on-warnings src

# The application with one more kind of outside system, for the browser's tests.
bin/readyferry-testsystem: web/dist/app/index.html FORCE
	go build $(RELEASE) -tags=$(TAGS),testsystem -o $@ ./cmd/readyferry

test-e2e: $(E2E) ## the tests in a browser alone
	$(MAKE) --no-print-directory browser

browser:
	cd e2e && npx playwright test

test-servers: ## the clients of outside systems against real servers of Debian's packages
	connect/connecttest/servers/run

chromium:
	@test -x /usr/bin/chromium || (apt-get update -qq && apt-get install -y -qq --no-install-recommends chromium)

release: bin/readyferry ## an archive and a Debian package of this commit in dist/, the same bytes for the same commit
	packaging/release bin/readyferry

outdated: ## what the application uses directly and has a later release, by the registries
	@go list -e -m -u -f '{{if and .Update (not .Indirect)}}{{.Path}} {{.Version}}, now {{.Update.Version}}{{end}}' all | grep . || echo "every Go module is its latest"
	@cd web && npm outdated || true

reproducible: ## make a release twice, in two clones with caches of their own, and compare
	packaging/reproducible

bench: ## measure, as ratios in one run: the table of the guaranteed path, then all others
	go run ./bench/table
	go test -run '^$$' -bench . -benchmem ./bench/...

picture: ## draw docs/architecture.svg from the imports
	go run ./docs/draw > docs/architecture.svg
