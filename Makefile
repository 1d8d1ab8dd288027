# Oaken Latch. The two commands: make demo, make test.

GO ?= go
DEMO_DATA ?= demo-data
LISTEN ?= 127.0.0.1:8640

CONSOLE_SOURCES := $(shell find console/src console/public -type f) console/index.html console/package-lock.json console/vite.config.ts
GO_SOURCES := $(shell find . -name '*.go' -not -path './console/node_modules/*') $(shell find lab service -name '*.yang' -o -name '*.xml' -o -name '*.sql') go.mod go.sum

# What --version says: the commit, and whether files were changed since.
COMMIT := $(shell git rev-parse HEAD 2>/dev/null)$(shell git diff --quiet HEAD -- 2>/dev/null || echo -changed)
WHEN := $(shell TZ=UTC git log -1 --format=%cd --date='format-local:%Y-%m-%d %H:%M:%S UTC' 2>/dev/null)
LDFLAGS := -X 'oakenlatch/wire.builtOf=$(COMMIT)' -X 'oakenlatch/wire.builtWhen=$(WHEN)'

.PHONY: describe docs packages demo demo-reset tour build test check go-test console-test bench soak judge audit fuzz screenshots clean

## demo: build all, run the service with its lab on loopback (Ctrl-C stops it)
demo: build
	@exec bin/oaken-latchd demo --data $(DEMO_DATA) --listen $(LISTEN)

## demo-reset: forget the demo's records and devices
demo-reset:
	rm -rf $(DEMO_DATA)

## docs: what the README shows of the client, made again from the tour through a running demo
docs: build
	@bash scripts/tour.sh http://$(LISTEN) | $(GO) run ./test/tour/docs README.md

## tour: the client through the whole story, against a running demo
tour: build
	@bash scripts/tour.sh http://$(LISTEN)

## build: the binaries, console embedded, in bin/
build: bin/oaken-latchd bin/latch

bin/oaken-latchd bin/latch &: $(GO_SOURCES) console/dist/index.html
	$(GO) build -ldflags "$(LDFLAGS)" -o bin/ ./cmd/...

console/dist/index.html: console/node_modules/.installed $(CONSOLE_SOURCES)
	cd console && npm run --silent build

# The documents' types, as the API's description has them.
console/src/generated/api.d.ts: docs/openapi.json console/node_modules/.installed
	cd console && npm run --silent generate >/dev/null

## describe: what is made from the routes: the API's description, docs/openapi.json, and the Go client's calls
describe:
	$(GO) run ./test/describe > docs/openapi.json
	$(GO) run ./test/describe go > client/calls.go.new && mv client/calls.go.new client/calls.go

console/node_modules/.installed: console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

## packages: Debian packages of service and client, in packages/ (OUT=DIR elsewhere)
OUT ?= packages
packages: build
	@set -e; cd packaging && $(GO) build -o $(CURDIR)/bin/.package ./build && cd .. && \
	  SOURCE_DATE_EPOCH=$$(git log -1 --format=%ct 2>/dev/null || date +%s) bin/.package bin $(OUT) $$(bin/latch --version | sed 's/latch \([^ ]*\).*/\1/')

## test: every test there is; installs what it needs
test:
	@bash scripts/test.sh

## check: formatting, vet, staticcheck, types and lint
check: console/src/generated/api.d.ts
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { echo "not gofmt'ed:"; gofmt -l $$(git ls-files '*.go'); exit 1; }
	$(GO) vet ./...
	cd packaging && $(GO) vet ./...
	$(GO) tool staticcheck ./...
	$(GO) tool ineffassign ./...
	$(GO) tool errcheck $$($(GO) list ./... | grep -v /test/)
	cd console && npm run --silent check && npm run --silent lint && npm run --silent lint:api

# Beside each other: what waits (LONG, ./test) and what computes.
LONGEST := $(shell mktemp -u)
RACED = $$($(GO) list ./... | grep -v -e '^oakenlatch/core/' -e '^oakenlatch/test/kernel' -e '^oakenlatch/test$$$$')

# What the race detector would make too long, and what begins no goroutines for it to watch (TestCoreIsPure).
LONG := TestSickSchedules|TestFullDiskAtEveryStep|TestFaultSchedules|TestCutAtEveryMessage|TestVeryLargeLoad|TestForecast.*|TestRandomRequests
PURE := ./core/... ./test/kernel/...

go-test: console/dist/index.html
	@($(GO) test -count=1 -json -timeout 20m -run '^($(LONG))$$' ./service/engine ./service/desk ./service/api ./lab >$(LONGEST) & \
	  $(GO) test -count=1 -json -timeout 20m $(PURE) ; \
	  $(GO) test -race -gcflags='modernc.org/...=-d=checkptr=0' -count=1 -json -timeout 25m ./test $(RACED) ; \
	  wait ; cat $(LONGEST) ; rm -f $(LONGEST)) | $(GO) run ./test/totals

console-test: console/node_modules/.installed
	cd console && npm test --silent

## bench: the core against yardsticks of the same run; ends with a line a figure
bench:
	@bash scripts/bench.sh

## soak: commits under random faults, and with a disk that fails, for as long as it takes (SCHEDULES=20000, SICK=3000)
soak:
	SICK=$(or $(SICK),3000) $(GO) test -count=1 -timeout 24h -run '^TestSickSchedules$$' -v ./service/engine
	TEST_TIME=10m $(GO) test -count=1 -timeout 24h -run '^(TestCutAtEveryMessage|TestFullDiskAtEveryStep)$$' -v ./service/engine
	TEST_TIME=10m $(GO) test -count=1 -timeout 24h -run '^TestWalk$$' -v ./core/guard
	SCHEDULES=$(or $(SCHEDULES),20000) $(GO) test -count=1 -timeout 24h -run '^TestFaultSchedules$$' -v ./service/engine

## judge: the forecast and the filters against the Linux kernel, at length (TRIALS=10000); as root
judge:
	@bash -c '. scripts/need.sh; need nft=nftables'
	TRIALS=$(or $(TRIALS),10000) FILTERS=$(or $(FILTERS),3000) $(GO) test -count=1 -timeout 24h -v ./test/kernel

## audit: known holes in what it is built on; asks services on the internet
audit:
	-cd console && npm audit --omit=dev
	$(GO) run golang.org/x/vuln/cmd/govulncheck@v1.9.0 ./...

## fuzz: every fuzz target for a while (FUZZTIME=30s)
fuzz:
	@bash scripts/fuzz.sh $(or $(FUZZTIME),30s)

## screenshots: the pictures of docs/screenshots, drawn from the demo
screenshots: build
	$(GO) run ./test/screenshots

clean:
	rm -rf bin console/dist/assets console/dist/index.html console/node_modules
