# Ready Ferry. Everything needs Go, Node.js and, for browser tests, apt.
SHELL := /bin/bash
.DEFAULT_GOAL := help
# Without paths of this machine, symbols and the message format of Gin that nobody asks for: 72 MB become 43.
RELEASE := -trimpath -ldflags "-s -w" -tags nomsgpack
export PLAYWRIGHT_SKIP_BROWSER_DOWNLOAD := 1

.PHONY: help demo build picture test test-go test-web test-e2e types bench web chromium

help: ## this list
	@grep -hE '^[a-z0-9-]+:.*## ' $(MAKEFILE_LIST) | awk -F':.*## ' '{printf "  make %-10s %s\n", $$1, $$2}'

demo: build ## build and start the application with the demo, and print its address
	./bin/readyferry demo

build: web ## build bin/readyferry with the web application in it
	go build $(RELEASE) -o bin/readyferry ./cmd/readyferry

web: web/node_modules/.package-lock.json
	cd web && npx vite build --logLevel warn

web/node_modules/.package-lock.json: web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel error

web/openapi/node_modules/.package-lock.json: web/openapi/package-lock.json
	cd web/openapi && npm ci --no-audit --no-fund --loglevel error

e2e/node_modules/.package-lock.json: e2e/package-lock.json
	cd e2e && npm ci --no-audit --no-fund --loglevel error

types: web/openapi/node_modules/.package-lock.json ## make the browser's types from api/openapi.yaml
	cd web/openapi && npm run --silent types

test: build test-go test-web test-e2e ## install what tests need and run them all

test-go: build
	test -z "$$(gofmt -l $$(git ls-files '*.go'))"
	go vet ./...
	go tool staticcheck ./...
	go test $$(go list ./... | grep -v -e '/engine' -e '/store')
	go test -race ./engine/... ./store/...

test-web: web/node_modules/.package-lock.json types
	git diff --exit-code --stat -- web/src/api/schema.d.ts
	cd web && npx tsc --noEmit && npx biome check --error-on-warnings src

bin/readyferry-testsystem: build
	go build $(RELEASE) -tags nomsgpack,testsystem -o $@ ./cmd/readyferry

test-e2e: build bin/readyferry-testsystem e2e/node_modules/.package-lock.json chromium
	cd e2e && npx playwright test

chromium:
	@test -x /usr/bin/chromium || (apt-get update -qq && apt-get install -y -qq --no-install-recommends chromium)

bench: ## measure, as ratios in one run
	go test -run '^$$' -bench . -benchmem ./bench/...

picture: ## draw docs/architecture.svg from the imports
	go run ./docs/draw > docs/architecture.svg
