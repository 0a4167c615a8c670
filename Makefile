# `make check` is for every save, `./test` for every push. The rest is for now and then.
SHELL = bash
.SHELLFLAGS = -o pipefail -c
.PHONY: check check-go check-scripts test thorough generate format bench fuzz hunt crash bootstrap dist

# Vaults are opened by the hundred in tests: with this tag stretching a master password is quick.
QUICK = -tags teststrength
TEMPLATES = web/templates/*.html practice/templates/*.html
SCRIPTS = 'extension/src/*.js' 'web/scripts/*.js' 'practice/static/*.js' 'e2e/*.mjs' '*.mjs'
STYLES = 'web/static/css/*.css' 'extension/src/*.css' 'extension/files/*.css' 'practice/static/*.css'

# Linters of scripts look again only at what has changed since.
KEPT = --cache --cache-location node_modules/.cache/kept

check: node_modules
	@$(MAKE) --no-print-directory -j2 check-go check-scripts

check-go:
	@unformatted=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$unformatted" ] || { echo "gofmt: $$unformatted"; exit 1; }
	@go run ./tools/longlines
	@go vet $(QUICK) ./...
	@go tool staticcheck $(QUICK) ./...
	@go test $(QUICK) -vet=off -short ./... | { grep -v 'no test files' || true; }

check-scripts:
	@node_modules/.bin/prettier --check --log-level warn $(KEPT)-prettier --cache-strategy content $(SCRIPTS) $(STYLES)
	@node_modules/.bin/stylelint $(KEPT)-stylelint --cache-strategy content $(STYLES)
	@node_modules/.bin/eslint $(KEPT)-eslint --cache-strategy content .
	@node_modules/.bin/tsc -p . --incremental --tsBuildInfoFile node_modules/.cache/kept-types
	@node --test --test-reporter=dot extension/src/

node_modules: package-lock.json
	npm ci --silent && touch node_modules

# What is made from sources and kept: the scripts that browsers run.
generate:
	go generate ./...

format: node_modules
	gofmt -w $$(git ls-files '*.go')
	go run ./tools/templatefmt $(TEMPLATES)
	node_modules/.bin/prettier --write --log-level warn $(SCRIPTS) $(STYLES)

test:
	./test

# Also every case in all its variants.
thorough:
	REDLOCKET_THOROUGH=1 ./test

bench:
	go test ./app ./cloud ./core/... ./web -run '^$$' -bench . -benchtime 20x
	npm ci --silent && node e2e/bench.mjs && node e2e/bench-book.mjs && node e2e/bench-fill.mjs

# Every decoder, one after the other: FUZZTIME=10s for a short one.
FUZZTIME = 10m
fuzz:
	@grep -rno --include='*_test.go' '^func Fuzz[A-Za-z]*' app cloud core web wording | sed 's/:[0-9]*:func / /' | \
	while read -r file name; do \
	  echo "== $$name ($$(dirname $$file))"; \
	  go test $(QUICK) ./$$(dirname $$file) -run '^$$' -fuzz "^$$name\$$" -fuzztime $(FUZZTIME) -fuzzminimizetime 1s || exit 1; \
	done

# Cases that nobody has drawn yet: CHECKS=100 for a short hunt.
CHECKS = 3000
hunt:
	RAPID_CHECKS=$(CHECKS) go test $(QUICK) -count=1 -timeout 60m \
	  $$(grep -rl --include='*_test.go' pgregory.net/rapid app core | xargs -n1 dirname | sort -u | sed 's,^,./,')

# Each kind of work is killed so often.
crash:
	REDLOCKET_KILLS=200 go test ./app -run KilledAtAnyMoment -v -timeout 30m

bootstrap:
	dir=$$(mktemp -d) && cd $$dir && npm init -y >/dev/null && npm install --silent bootstrap@5.3.9 sass@1.108.2 && \
	  npx sass --style=compressed --no-charset --no-source-map --quiet --load-path=node_modules \
	    $(CURDIR)/web/bootstrap.scss $(CURDIR)/web/static/vendor/bootstrap.min.css

# Packages, archives, extensions, what is in them, and checksums: the same bytes from the same commit.
dist:
	rm -rf dist
	cd tools/dist && SOURCE_DATE_EPOCH=$$(git log -1 --format=%ct) go run . -root ../.. -out ../../dist \
	  -built $$(git describe --tags --always --dirty)
