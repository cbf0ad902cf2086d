# Two commands do everything on a fresh machine: make demo, make test.
SHELL := /bin/bash
export GOFLAGS := -buildvcs=false

.PHONY: setup engines build demo docs test test-engines test-clients race bench storm small-storm fuzz lint clean

setup:
	@scripts/setup

# Real engines, for test-engines and for demo --engine opensearch and collections.
engines:
	@scripts/engines

bin/pingo: $(shell find cmd internal console/console.go go.mod go.sum -type f 2>/dev/null) console/dist/index.html
	go build -trimpath -o $@ ./cmd/pingo

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

console/dist/index.html: console/node_modules/.package-lock.json console/index.html console/vite.config.ts $(shell find console/src console/public -type f)
	cd console && npm run --silent build
	@touch $@

build: setup
	@$(MAKE) --no-print-directory bin/pingo

demo: build
	@bin/pingo demo

test: build lint
	go test -timeout 45m -parallel 4 ./...

# What concerns engines again, against real servers.
test-engines: build engines
	PINGO_TEST_ENGINES=1 PINGO_STORM_SECONDS=60 go test -count=1 -p 1 -timeout 60m -run 'Real|TasksStorm' ./internal/engine/opensearch ./internal/engine/collections ./internal/lab/standin ./internal/cli

# The API's description, by a linter and by a client that is generated from it.
test-clients: build
	cd console && npm run --silent lint:api
	PINGO_TEST_CLIENTS=$$(scripts/clients) go test -count=1 -run TestGeneratedClients -v ./internal/server

# The pages of the manual and the schemas of the API that are made of the code.
docs: build
	go test ./internal/api ./internal/manual -update

# The flow and the server under the race detector.
race: build
	go test -race -timeout 20m ./internal/core/... ./internal/flow/... ./internal/server ./internal/kinds ./internal/lab/... \
		./internal/source/mariadb ./internal/source/webhook ./internal/source/outbox ./internal/source/poll ./internal/source/webfeed
	go test -race -timeout 5m -run 'SeveralIndexes|Conformance' ./internal/source/postgres

bench: build engines
	go run ./bench
	taskset -c 1 go run ./bench -only apart -out bench/apart.json

# Longer storms: make storm SEED=7 MINUTES=10
MINUTES ?= 5
storm: build
	PINGO_STORM_SEED=$(SEED) PINGO_STORM_SECONDS=$$(($(MINUTES) * 60)) go test ./internal/cli -run 'TestStorm$$|TestMixedStorm$$' -count=1 -v -timeout 24h

# More of the small storm: make small-storm SEED=7 EPISODES=1000
EPISODES ?= 1000
small-storm:
	go test ./internal/flow -run 'TestSmallStorm$$' -count=1 -timeout 24h -args -small-storm.seed $(or $(SEED),1) -small-storm.episodes $(EPISODES)

lint: console/dist/index.html
	@test -z "$$(gofmt -l cmd internal console/console.go bench)" || { gofmt -l cmd internal console/console.go bench; echo "not formatted: run gofmt -w on these"; exit 1; }
	go vet ./...
	go tool staticcheck ./...

# Every parser of what others send, each for FUZZTIME.
FUZZTIME ?= 5m
fuzz:
	@set -eo pipefail; for file in $$(grep -rl '^func Fuzz' --include=*_test.go internal); do \
		for name in $$(grep -o '^func Fuzz[A-Za-z]*' $$file | cut -d' ' -f2); do \
			echo "$$name in $$(dirname $$file)"; \
			go test ./$$(dirname $$file) -run '^$$' -fuzz "^$$name$$" -fuzztime $(FUZZTIME) | tail -n 2; \
		done; \
	done

clean:
	rm -rf bin console/dist/assets console/dist/index.html console/node_modules
