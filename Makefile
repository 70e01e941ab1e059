# Everything here sets up what it needs by itself, and is quick the second time.

SHELL := /bin/bash
GO ?= go
VERSION ?= $(shell git describe --always --dirty 2>/dev/null || echo development)
STATICCHECK := honnef.co/go/tools/cmd/staticcheck
WEB := $(shell find web/src web/public web/index.html web/vite.config.ts -type f)
INSTALL = $(APT) install -y -qq --no-install-recommends
APT = $(if $(filter 0,$(shell id -u)),,sudo -n )env DEBIAN_FRONTEND=noninteractive apt-get

.PHONY: demo build test unit lint bench corpus shots fuzz trial tools types clean

## demo: start Arithmon with the Merrowfen demo and print the console's address
demo: build
	bin/arithmon demo

## build: one binary with the console in it
build: web/dist/index.html
	@mkdir -p bin
	CGO_ENABLED=0 $(GO) build -trimpath -ldflags "-s -w -X main.version=$(VERSION)" -o bin/arithmon ./cmd/arithmon

web/node_modules/.installed: web/package-lock.json
	cd web && npm ci --no-fund --no-audit --loglevel=error
	@touch $@

web/dist/index.html: web/node_modules/.installed web/src/api/schema.gen.ts $(WEB)
	cd web && npx --no-install vite build --logLevel warn
	@touch web/dist/.gitkeep $@

## types: the console's types, from the service's own description
types: web/node_modules/.installed
	$(GO) run ./internal/app/api/describe > web/openapi.json
	cd web && npx --no-install openapi-typescript openapi.json -o src/api/schema.gen.ts

## tools: Debian's Chromium and tshark, when they are missing and may be installed
tools:
	@{ command -v chromium-headless-shell >/dev/null && command -v tshark >/dev/null; } || \
	  { $(APT) update -qq && $(INSTALL) chromium-headless-shell fonts-dejavu-core tshark >/dev/null; } || \
	  $(INSTALL) chromium fonts-dejavu-core tshark >/dev/null || \
	  { { command -v chromium || command -v chromium-browser || command -v google-chrome; } >/dev/null && command -v tshark >/dev/null; } || \
	  { echo "Chromium or tshark is missing and could not be installed: apt-get install chromium-headless-shell tshark" >&2; exit 1; }

## lint: formatting, vet, staticcheck and the strict TypeScript check
lint: web/node_modules/.installed
	@unformatted=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$unformatted" ] || { echo "not gofmt'ed: $$unformatted"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...
	cd web && npx --no-install vue-tsc --noEmit

## unit: the console's TypeScript
unit: web/node_modules/.installed
	cd web && npx --no-install vitest run

# What is tested end to end is the built program, so that the race detector would only look at the tests themselves.
END_TO_END := arithmon/internal/check/e2e

## test: everything that must hold, with the race detector; the console in headless Chromium
test: tools build lint unit
	$(GO) test -race -timeout 30m $$($(GO) list ./... | grep -vx $(END_TO_END))
	$(GO) test -timeout 30m $(END_TO_END)

## bench: speed, as ratios measured side by side in one run
bench:
	$(GO) test -run '^$$' -bench 'Exchange|Requests100000' -benchtime 2s ./internal/live/driver/modbus ./internal/core/plan
	$(GO) run ./internal/check/bench

## corpus: commissioning mistakes made at random, and healthy plants for a day, told apart by the diagnosis; CORPUS_SEED changes the plants
corpus:
	$(GO) run ./internal/check/corpus -seed $${CORPUS_SEED:-9754000000} -trials 720
	$(GO) run ./internal/check/corpus/lines -seed $${CORPUS_SEED:-9688000000} -trials 288 -healthy 48 -minutes 3

## trial: random faults with the device's truth beside every reading; TRIAL_SEED, TRIAL_READINGS, TRIAL_ROUNDS, TRIAL_REQUESTS, TRIAL_LISTS and TRIAL_SECONDS change it
trial:
	TRIAL_READINGS=$${TRIAL_READINGS:-1300000} $(GO) test -count=1 -timeout 1h -v -run TestTrial ./internal/protocol/modbus
	TRIAL_LISTS=$${TRIAL_LISTS:-60000} $(GO) test -count=1 -timeout 1h -v -run TestTrial ./internal/exchange/pointlist
	TRIAL_ROUNDS=$${TRIAL_ROUNDS:-500} $(GO) test -count=1 -timeout 1h -v -run TestTrial ./internal/record/store
	TRIAL_SECONDS=$${TRIAL_SECONDS:-60} TRIAL_ROUNDS=$${TRIAL_ROUNDS:-200} TRIAL_REQUESTS=$${TRIAL_REQUESTS:-100000} $(GO) test -count=1 -timeout 1h -parallel 16 -v -run TestTrial ./internal/check/e2e/trial

## fuzz: every parser of outside bytes, a minute each
fuzz:
	@set -e; for p in $$($(GO) list ./...); do for f in $$($(GO) test -list '^Fuzz' $$p | grep ^Fuzz || true); do \
	  echo "$$p $$f"; $(GO) test -run '^$$' -fuzz "^$$f$$" -fuzztime $${FUZZTIME:-60s} $$p; done; done

## shots: the pictures of docs/screenshots, from the demo
shots: tools build
	@command -v Xvfb xterm import >/dev/null || { $(APT) update -qq && $(INSTALL) xvfb xterm imagemagick x11-apps >/dev/null; }
	$(GO) run ./internal/check/shots

clean:
	rm -rf bin web/node_modules web/dist/assets web/dist/index.html
