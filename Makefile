# `make check` is for every save, `./test` for every push. The rest is for now and then.
SHELL = bash
.SHELLFLAGS = -o pipefail -c
.PHONY: check lint-go test-go check-scripts lint-scripts test thorough generate format bench fuzz hunt crash bootstrap dist

# Vaults are opened by the hundred in tests: with this tag stretching a master password is quick.
QUICK = -tags teststrength
TEMPLATES = web/templates/*.html practice/templates/*.html
SCRIPTS = 'extension/src/*.js' 'web/scripts/*.js' 'practice/static/*.js' 'e2e/*.mjs' '*.mjs'
STYLES = 'web/static/css/*.css' 'extension/src/*.css' 'extension/files/*.css' 'practice/static/*.css'

# Linters of scripts look again only at what has changed since.
KEPT = --cache --cache-location node_modules/.cache/kept

# Go packages are linted that were changed since the last check that was content: ./test lints them all. Tests write into
# memory, where there is a place for it (always the same: with another one go would run all of them again), and journeys
# of several devices are left to ./test.
CHECKED = node_modules/.cache/checked
CHANGED = find app cloud cmd core demo extension install practice tools web wording -name '*.go' -not -path 'tools/dist/*' \
  -newer $(CHECKED) -printf './%h\n' | sort -u
# The same for scripts and styles: all are looked at where any, a folder of theirs, or what the linters go by has changed.
SCRIPTS_CHANGED = find extension web/scripts web/static practice/static e2e *.mjs *.json .prettierrc.json .stylelintrc.json \
  \( -type d -o -name '*.js' -o -name '*.mjs' -o -name '*.css' -o -name '*.ts' -o -name '*.json' -o -name '.*.json' \) -newer $(CHECKED)

check: node_modules
	@mkdir -p $(dir $(CHECKED)) && touch $(CHECKED)-now
	@$(MAKE) --no-print-directory -j3 lint-go test-go check-scripts
	@mv $(CHECKED)-now $(CHECKED)

lint-go:
	@unformatted=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$unformatted" ] || { echo "gofmt: $$unformatted"; exit 1; }
	@go run ./tools/longlines
	@changed=./...; [ ! -e $(CHECKED) ] || changed=$$($(CHANGED)); \
	[ -z "$$changed" ] || { go vet $(QUICK) $$changed && go tool staticcheck $(QUICK) $$changed; }

test-go:
	@memory=/dev/shm/redlocket-check-$$(id -u); mkdir -p -m 711 $$memory 2>/dev/null || memory=$${TMPDIR:-/tmp}; \
	GOGC=400 GOTMPDIR=$${TMPDIR:-/tmp} TMPDIR=$$memory go test $(QUICK) -vet=off -short -parallel 8 ./... | \
	{ grep -v 'no test files' || true; }

check-scripts:
	@[ -e $(CHECKED) ] && [ -z "$$($(SCRIPTS_CHANGED))" ] || $(MAKE) --no-print-directory lint-scripts

lint-scripts:
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
