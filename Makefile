# Bouncer. `make help` lists what there is.
SHELL := /bin/bash
GO ?= go
NPM ?= npm
BIN := bin
CONSOLE := internal/web/dist/index.html
CONSOLE_SRC := $(shell find console -type f -not -path '*/node_modules/*' 2>/dev/null)
GOLANGCI := github.com/golangci/golangci-lint/v2/cmd/golangci-lint@v2.15.0
MUTANTS ?= $(addprefix core/,$(notdir $(wildcard internal/core/*))) locker journal
# The race detector without the checks of unsafe pointers, of which there are none of ours, and
# without watching SQLite itself, which is C that was translated: it has locks of its own, shares no
# memory with the rest, and would be several times slower. No other package may be left out: Go's
# generic functions exist once for all packages, and might be taken from the one that is.
RACE := CGO_ENABLED=1 $(GO) test -race -gcflags=all=-d=checkptr=0 \
	'-gcflags=modernc.org/sqlite/lib=-race=false -d=checkptr=0' -vet=off
# Everything else is compiled in one way, so that it is compiled once.
export CGO_ENABLED := 0
TRIMPATH := -trimpath

.PHONY: help bench-cluster bench-journal soak packages demo demo-cluster cluster-test first-hour build console test test-e2e test-race test-console test-others test-packaging test-stress test-upgrade crash contract mutants bench lint clean chromium peers

help: ## list the targets
	@grep -hE '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed 's/:.*##/\t/' | expand -t 12

demo: build ## build everything and run it with the demo data; Ctrl-C ends it
	@$(GO) build -o $(BIN)/demo ./demo
	@$(GO) build -o $(BIN)/quill ./demo/quill
	@$(GO) build -o $(BIN)/berths ./demo/berths
	@exec $(BIN)/demo .demo

demo-cluster: build ## the same as three nodes with a balancer in front, and three NATS servers; Ctrl-C ends it
	@$(GO) build -o $(BIN)/demo ./demo
	@$(GO) build -o $(BIN)/quill ./demo/quill
	@$(GO) build -o $(BIN)/berths ./demo/berths
	@exec $(BIN)/demo --cluster .demo-cluster

build: console ## build the console and the one static binary bin/bouncer
	$(GO) build $(TRIMPATH) -buildvcs=auto -o $(BIN)/bouncer ./cmd/bouncer

console: $(CONSOLE)

$(CONSOLE): $(CONSOLE_SRC)
	@rm -rf internal/web/dist/assets
	cd console && $(NPM) ci --no-audit --no-fund --loglevel=error && $(NPM) run build

peers: e2e/peers/node_modules/.installed

e2e/peers/node_modules/.installed: e2e/peers/package-lock.json
	cd e2e/peers && $(NPM) ci --no-audit --no-fund --loglevel=error
	@touch $@

chromium:
	@command -v chromium >/dev/null && command -v pgrep >/dev/null || \
		(apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends chromium procps)

first-hour: build ## go through a newcomer's first hour, command by command, with the seconds each took
	@$(GO) build -o $(BIN)/firsthour ./demo/firsthour
	@$(GO) build -o $(BIN)/berths ./demo/berths
	@exec $(BIN)/firsthour

test: ## install what is missing and run every test; those of what is concurrent (.ci/concurrent) with the race detector
	@$(MAKE) --no-print-directory --jobs=2 --output-sync=target TRIMPATH= build peers chromium
	@# Tests through a browser, and those of a cluster, mostly wait, so that there is room for others beside them.
	@$(MAKE) --no-print-directory --jobs=2 --output-sync=target --keep-going TRIMPATH= \
		test-e2e test-race test-console test-others test-packaging

test-e2e: build peers chromium
	@$(GO) test -vet=off -timeout 20m -parallel 4 ./e2e

test-race: console
	@$(RACE) -timeout 14m $$(.ci/concurrent)

test-console: console
	@cd console && $(NPM) run check

test-others: console
	@$(GO) test -vet=off $$(.ci/concurrent -v)

test-packaging: build
	@cd packaging && $(GO) vet ./... && $(GO) test ./...

packages: build ## a package for Debian, a tarball and an image as a file, in bin/packages
	cd packaging && $(GO) run .

test-stress: build peers chromium ## the same tests three times over, with more at once than the machine has cores
	$(RACE) -timeout 60m -count 3 -parallel 32 ./...

cluster-test: ## nodes and servers of a cluster killed, paused and cut off at random for ten minutes, and bad days; as root
	BOUNCER_CLUSTER_TIME=10m $(GO) test ./e2e/apart -timeout 60m -v -count 1
	BOUNCER_CLUSTER_TIME=10m $(RACE) ./internal/cluster/replica -run TestHistoryIsThatOfOneNode -timeout 30m -v -count 1

test-upgrade: build ## nodes of an earlier Bouncer are exchanged for this one, one after the other, under calls; FROM=COMMIT, as root
	rm -rf .before && git worktree prune && git worktree add --quiet --force --detach .before $(FROM)
	cp -r internal/web/dist/. .before/internal/web/dist/
	cd .before && CGO_ENABLED=0 $(GO) build -o ../$(BIN)/bouncer-before ./cmd/bouncer
	git worktree remove --force .before
	BOUNCER_BEFORE=$(CURDIR)/$(BIN)/bouncer-before $(GO) test ./e2e/apart -run TestNodesAreUpgradedOneByOne -timeout 15m -v -count 1

crash: build ## kill the service a thousand times under load, and hold what is there against what was answered
	BOUNCER_CRASHES=1000 $(GO) test ./e2e -run TestKilledAgainAndAgain -timeout 90m -v

mutants: ## change lines one by one, and tell which no test of their package notices; MUTANTS=core/rules for one package
	$(GO) run ./mutants --least 90 $(addprefix ./internal/,$(MUTANTS))

bench: build ## measure against a bare reverse proxy, side by side
	$(GO) run ./bench

bench-journal: ## how long searches take among ten million calls on record
	$(GO) run ./bench -only-search -searched 10000000

bench-cluster: build ## what it takes to be three nodes: until an alteration holds at all, calls, strict mode, catching up
	$(GO) run ./bench -only-cluster

soak: build ## ten minutes of 200 agents and 40 servers, with changes and failures going on; draws docs/soak.svg
	$(GO) run ./soak -picture docs/soak.svg

contract: build ## describe the API anew, and make the console's types from it
	$(GO) test ./internal/api -run TestTheConsoleKnowsTheContract -update
	cd console && $(NPM) run contract && $(NPM) run format

lint: console ## go vet and other linters, formatting, tidiness of the module, nothing built among the sources
	@large=$$(git ls-files -z | xargs -0 -r stat -c '%s %n' | awk '$$1 > 1048576 {print $$2}'); \
		[ -z "$$large" ] || { echo "larger than a MiB, so hardly a source: $$large" >&2; exit 1; }
	$(GO) mod tidy -diff
	$(GO) run $(GOLANGCI) run ./...
	cd console && $(NPM) run lint

clean: ## remove what was built and the demo's state
	rm -rf $(BIN) .demo .demo-cluster console/node_modules e2e/peers/node_modules
	find internal/web/dist -mindepth 1 -not -name .keep -delete
