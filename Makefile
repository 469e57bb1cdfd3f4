# Lithos. `make help` lists what there is to do.
SHELL := /bin/bash
# A checkout of another account's is no reason not to build.
export GOFLAGS := -buildvcs=false
.DEFAULT_GOAL := help
GO_FILES := $(shell find cmd core internal web -name '*.go' -not -path '*/node_modules/*' 2>/dev/null) $(shell find core internal -name '*.yaml' -o -name '*.sql' -o -name '*.yang')
WEB_FILES := $(shell find web/src web/public -type f 2>/dev/null) web/index.html web/vite.config.ts web/tsconfig.json
TOOLS := $(CURDIR)/bin/tools
SQLC_VERSION := v1.31.1
STATICCHECK_VERSION := v0.8.2
GOTESTSUM_VERSION := v1.13.0
REVIVE_VERSION := v1.9.0
DEADCODE_VERSION := v0.48.0

.PHONY: help demo test test-work test-plain test-wired test-raced attacks bench mutate generate check-generated lint \
	lint-go lint-web fuzz clean system-packages browser

help: ## List the targets
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 18

demo: system-packages bin/lithos ## Run everything with the made-up sites; Ctrl-C stops it
	@exec bin/lithos demo

# Every test is run anew (-count=1): what some look at, such as the imports of other packages, Go's cache does not see.
test: system-packages browser ## Install what is missing and run every test
	@$(MAKE) --no-print-directory -j3 bin/lithos $(addprefix $(TOOLS)/,staticcheck gotestsum deadcode revive)
	@$(MAKE) --no-print-directory -j5 check-generated lint-go lint-web test-work test-wired
	@$(MAKE) --no-print-directory test-plain
	@$(MAKE) --no-print-directory test-raced
	@echo "The ten slowest tests:"
	@cat .tests-*.json | $(TOOLS)/gotestsum tool slowest --num 10 --jsonfile -

# What runs concurrently is tested with the race detector, but for a test that hashes passwords for minutes with it.
# Tests that mostly wait run beside what mostly computes: the pushes of test-work for devices, and the real DHCP clients
# of test-wired for their own timers, beside the linters. The browser, and what the race detector slows down, need both
# cores for themselves: beside other work the browser waits in vain.
SLOW_RACED := TestAttackFortyGuessesBehindTheProxy
WIRED := lithos/internal/standin/wired
WORK := lithos/internal/work
# go test begins packages in the order in which they are named.
LONG := lithos/internal/browser
RACED := $(addprefix lithos/internal/,accounts api device draft poll push standin standin/internet standin/resolve store)
GOTEST := $(TOOLS)/gotestsum --format standard-quiet
# lint has vetted all of it.
FLAGS := -count=1 -vet=off -timeout 30m

test-work: $(TOOLS)/gotestsum
	@$(GOTEST) --jsonfile .tests-work.json -- $(FLAGS) $(WORK)

test-plain: $(TOOLS)/gotestsum
	@$(GOTEST) --jsonfile .tests-plain.json -- $(FLAGS) $(LONG) \
		$$(go list ./... | grep -vxE '$(subst $(eval) ,|,$(LONG) $(WORK) $(RACED) $(WIRED))|.*/node_modules/.*')
	go test $(FLAGS) -run $(SLOW_RACED) ./internal/api

test-wired: $(TOOLS)/gotestsum
	@$(GOTEST) --jsonfile .tests-wired.json -- $(FLAGS) -race $(WIRED)

test-raced: $(TOOLS)/gotestsum
	@$(GOTEST) --jsonfile .tests-raced.json -- $(FLAGS) -race -skip $(SLOW_RACED) $(RACED)

attacks: system-packages browser web/dist/index.html ## Run the tests that attack Lithos from outside, and count them
	@scripts/attacks

mutate: ## Put small faults into PKG, or into what differs from SINCE, and list those that its tests let through
	go run ./scripts/mutate $(if $(SINCE),-since $(SINCE)) $(PKG)

lint: lint-go lint-web

lint-go: $(TOOLS)/staticcheck $(TOOLS)/deadcode $(TOOLS)/revive web/dist/index.html
	@scripts/check-files
	@test -z "$$(gofmt -l cmd core internal scripts web/*.go)" || { echo "gofmt would change:"; gofmt -l cmd core internal scripts web/*.go; exit 1; }
	@# A struct tag cannot be broken, and may be longer than the 120 columns of a line.
	@git ls-files '*.go' ':!internal/store/gen' | xargs awk '{ l = $$0; gsub(/\t/, "    ", l) } \
		length(l) > 120 && l !~ /`[a-z]+:".*`(,| \/\/.*)?$$/ { print FILENAME ":" FNR ": over 120 columns"; bad = 1 } \
		END { exit bad }'
	go vet ./...
	$(TOOLS)/staticcheck ./...
	@# How large a file and a function may be, and how many ways lead through one; an exception says why.
	$(TOOLS)/revive -set_exit_status -config revive.toml -exclude internal/store/gen/... ./cmd/... ./core/... ./internal/... ./scripts/...
	@dead=$$($(TOOLS)/deadcode -test ./cmd/... ./core/... ./internal/... ./scripts/...); [ -z "$$dead" ] || { echo "$$dead"; exit 1; }

lint-web: web/node_modules/.installed
	@# The pages are imported as they are opened, which the tool does not see.
	cd web && npx ts-unused-exports tsconfig.json '--excludePathsFromReport=schema.gen;Page.tsx;orders/Orders.tsx;standards/Standards.tsx'
	cd web && npx tsc --noEmit -p . && npx prettier --check --log-level warn src && npx eslint --max-warnings 0 src

bench: system-packages browser bin/lithos ## Measure what is promised until the medians stand still (BENCH="core/edit rest": only these)
	go run ./scripts/bench $(BENCH)

generate: $(TOOLS)/sqlc web/node_modules/.installed ## Make generated code anew
	cd internal/store && $(TOOLS)/sqlc generate
	scripts/sqlc-sums > internal/store/sqlc.sums
	go run ./cmd/lithos openapi > docs/openapi.json
	go run ./cmd/lithos schema > docs/site.schema.json
	go run ./cmd/lithos outside-names > docs/outside-names.json
	go run ./cmd/lithos options > docs/options.md
	go run ./cmd/lithos rules > docs/rules.md
	cd web && npx openapi-typescript ../docs/openapi.json -o src/api/schema.gen.ts >/dev/null

check-generated: bin/lithos
	@scripts/check-generated

fuzz: ## Fuzz every parser and codec for FUZZTIME each (default 30s)
	@scripts/fuzz

clean: ## Remove everything make has made
	@scripts/clean

system-packages:
	@scripts/install postgresql

browser:
	@scripts/install chromium iproute2 busybox isc-dhcp-client dhcpcd-base libyang2-tools ldnsutils

bin/lithos: $(GO_FILES) go.mod go.sum web/dist/index.html
	go build -o $@ ./cmd/lithos

web/dist/index.html: web/node_modules/.installed $(WEB_FILES)
	cd web && npx vite build --logLevel warn
	@touch $@

web/node_modules/.installed: web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

$(TOOLS)/sqlc:
	CGO_ENABLED=0 GOBIN=$(TOOLS) go install github.com/sqlc-dev/sqlc/cmd/sqlc@$(SQLC_VERSION)

$(TOOLS)/revive:
	GOBIN=$(TOOLS) go install github.com/mgechev/revive@$(REVIVE_VERSION)

$(TOOLS)/deadcode:
	GOBIN=$(TOOLS) go install golang.org/x/tools/cmd/deadcode@$(DEADCODE_VERSION)

$(TOOLS)/gotestsum:
	GOBIN=$(TOOLS) go install gotest.tools/gotestsum@$(GOTESTSUM_VERSION)

$(TOOLS)/staticcheck:
	GOBIN=$(TOOLS) go install honnef.co/go/tools/cmd/staticcheck@$(STATICCHECK_VERSION)
