# Agile Beacon. `make start` runs it with its demo, `make test` tests it; both install what is missing.
GO ?= go
TEST_TIMEOUT = 20m
BEGAN := $(shell date +%s)

.PHONY: start build console tour test check bench soak fuzz docs screenshots clean need-go need-node need-database need-tests

start: need-database build
	@exec bin/beacon demo start

build: need-go console
	@$(GO) build -trimpath -o bin/beacon ./cmd/beacon
	@CGO_ENABLED=0 $(GO) build -trimpath -ldflags '-s -w' -o bin/beacon-report ./cmd/beacon-report

# The console is built anew only where something that it is made of has changed: its sources, or the API.
CONSOLE = $(shell find console/src console/public console/index.html console/*.ts console/*.json -type f ! -path 'console/src/api/openapi.json' ! -path 'console/src/api/schema.d.ts')
API = $(shell find api wire core -name '*.go' ! -name '*_test.go')

console: console/dist/index.html

console/dist/index.html: $(CONSOLE) console/src/api/schema.d.ts
	@rm -rf console/dist/assets
	@cd console && npm run --silent build -- --logLevel warn
	@touch $@

console/src/api/schema.d.ts: $(API) console/node_modules/.installed | need-go
	@$(GO) run ./cmd/apidoc -fields > api/fields.json.new && mv api/fields.json.new api/fields.json
	@$(GO) run ./cmd/apidoc > console/src/api/openapi.json
	@cd console && npm run --silent types > /dev/null
	@touch $@

console/node_modules/.installed: console/package.json console/package-lock.json | need-node
	@echo "Installing what the console is built with ..."
	@cd console && npm ci --no-audit --no-fund --loglevel=error > /dev/null
	@touch $@

# The whole scenario on a stage of its own, unattended; fails unless every step holds.
tour: need-database build
	@exec bin/beacon demo tour

# Most tests wait for something most of their time: two packages with six at once each keep two processors busy.
test: need-tests console check
	cd console && npm run --silent test
	$(GO) test -timeout $(TEST_TIMEOUT) . ./core/... # no goroutine in them, so nothing for the race detector
	BEACON_BEGAN=$(BEGAN) $(GO) test -race -timeout $(TEST_TIMEOUT) -p 2 -parallel 6 ./service $$($(GO) list ./... | grep -vE '^[a-z]+$$|/core/|/e2e$$|/service$$') ./e2e # the longest ones not beside each other
	@echo "make test took $$(( ($$(date +%s) - $(BEGAN)) / 60 )) min $$(( ($$(date +%s) - $(BEGAN)) % 60 )) s"

# Everything that reads the code without running it.
check: need-go
	@unformatted=$$(gofmt -l $$(git ls-files '*.go')); if [ -n "$$unformatted" ]; then echo "not formatted: $$unformatted"; exit 1; fi
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

bench: need-tests console
	@$(GO) test -run '^$$' -bench . -benchtime 3x -timeout 30m ./core/... | grep -E '^(Benchmark|pkg)' | scripts/bench-table
	@$(GO) test -run '^$$' -bench . -timeout 30m ./resolve ./store ./api ./profile/jq | grep -E '^(Benchmark|pkg)' | scripts/bench-table
	@BEACON_SPEED=1 $(GO) test -count 1 -v -run 'TestSpeedOf(Sweeps|BriefChecks)|ReportsAtOnce|ReportSpeed|ReportsArrive' -timeout 30m ./resolve ./service | grep -E 'domains/s|reports/s|clients:|arrivals:|FAIL'
	@BEACON_SPEED=1 $(GO) test -count 1 -v -timeout 60m -run 'ManyZones|SpeedOfStreams|LargeZoneFiles' ./e2e | grep -E 'queries|reports/s|records:|FAIL'
	@BEACON_SPEED=1 $(GO) test -count 1 -v -timeout 20m -run 'SpeedOfUpdates|SpeedInALargeZone' ./service | grep -E 'sets:|records:|record in|FAIL'
	@$(GO) test -run '^$$' -bench Console -benchtime 1x ./e2e | grep -E '^(FAIL|console:)'

# Long fault runs, some minutes.
soak: need-tests console
	BEACON_SOAK=1 $(GO) test -count 1 -v -timeout 150m -run 'Skipped|Kill|Cut|Settles|Sweep|Frozen|Outages|Restored|Loading|Guessing' ./e2e
	BEACON_SOAK=1 $(GO) test -count 1 -v -timeout 60m -run 'RainOf|Outage|FollowedFolder|HandoversAreSeen|HandoverBetween|KindsOfProviders|ReportsDuring' ./service
	BEACON_SOAK=1 $(GO) test -count 1 -v -timeout 60m -run Crash ./service/acts
	BEACON_SOAK=1 $(GO) test -count 1 -v -timeout 60m -run RainOnShapes ./profile
	BEACON_SOAK=1 $(GO) test -count 1 -v -timeout 60m -run PeersAgree ./core/zonefile
	BEACON_SOAK=1 $(GO) test -count 1 -v -timeout 60m -run 'Simul|GoingBack' ./core/handover
	BEACON_SOAK=1 $(GO) test -count 1 -v -timeout 60m -run AYear ./core/dynaddr
	BEACON_SOAK=1 $(GO) test -count 1 -v -timeout 5m -run FamilyThatIsGone ./reporter

fuzz: need-go
	$(GO) test -run '^$$' -fuzz FuzzParse$$ -fuzztime 1m ./core/dnsname
	$(GO) test -run '^$$' -fuzz FuzzPrint -fuzztime 1m ./core/rdata
	$(GO) test -run '^$$' -fuzz FuzzParseData -fuzztime 1m ./core/record
	$(GO) test -run '^$$' -fuzz FuzzRead -fuzztime 1m ./core/zonefile
	$(GO) test -run '^$$' -fuzz FuzzRead -fuzztime 1m ./core/definition
	$(GO) test -run '^$$' -fuzz FuzzRead -fuzztime 1m ./core/paste
	$(GO) test -run '^$$' -fuzz FuzzMailbox -fuzztime 1m ./core/soa
	$(GO) test -run '^$$' -fuzz FuzzUpdate -fuzztime 1m ./core/update
	$(GO) test -run '^$$' -fuzz FuzzUpdatePort -fuzztime 1m ./primary
	$(GO) test -run '^$$' -fuzz FuzzRouter -fuzztime 1m ./core/reporter
	$(GO) test -run '^$$' -fuzz FuzzAnswer -fuzztime 1m ./resolve
	$(GO) test -run '^$$' -fuzz FuzzAnswers -fuzztime 1m ./core/gather
	$(GO) test -run '^$$' -fuzz FuzzParseGrant -fuzztime 1m ./core/access
	for f in FuzzReport FuzzForwarded FuzzSignIn FuzzBodies FuzzPaths; do $(GO) test -run '^$$' -fuzz $$f'$$' -fuzztime 1m -fuzzminimizetime 1x ./api || exit 1; done
	$(GO) test -run '^$$' -fuzz FuzzDatagram -fuzztime 1m ./resolve
	$(GO) test -run '^$$' -fuzz FuzzBrief -fuzztime 1m ./resolve
	$(GO) test -run '^$$' -fuzz FuzzAbsent -fuzztime 1m -fuzzminimizetime 1s ./core/dnssec
	$(GO) test -run '^$$' -fuzz FuzzLoad -fuzztime 1m -fuzzminimizetime 1s ./profile
	$(GO) test -run '^$$' -fuzz FuzzRecords -fuzztime 1m ./profile
	$(GO) test -run '^$$' -fuzz FuzzPage -fuzztime 1m ./store

# The tour's output and the pictures in docs/, made from the demo.
docs: screenshots
	@bin/beacon demo tour > var/tour.txt && mv var/tour.txt docs/tour.txt # a tour that fails leaves the old one

screenshots: need-database build
	@scripts/screenshots

clean:
	rm -rf bin var console/node_modules console/dist/assets console/dist/index.html

need-go:
	@command -v $(GO) >/dev/null || { echo "Go 1.26 or newer is needed: https://go.dev/doc/install"; exit 1; }

need-node:
	@scripts/need node=nodejs npm=npm
	@node -e 'const [a, b] = process.versions.node.split("."); if (a < 20 || a == 20 && b < 19) { console.error("Node.js " + process.versions.node + " is too old to build the console: 20.19 or newer is needed."); process.exit(1) }'

need-database:
	@scripts/need mariadbd=mariadb-server-core,mariadb-client-core

need-tests: need-go
	@scripts/need mariadbd=mariadb-server-core,mariadb-client-core eatmydata=eatmydata gcc=gcc,libc6-dev chromium=chromium,fonts-dejavu-core \
		named-compilezone=bind9-utils kzonecheck=knot-dnssecutils named=bind9 nsupdate=bind9-dnsutils knotd=knot nsd=nsd unbound=unbound dnsperf=dnsperf curl=curl ip=iproute2
