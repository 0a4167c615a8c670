# Benchmarks with their floors, the long crash test, and packing.
.PHONY: test bench crash bootstrap dist
test:
	./test
bench:
	go test ./app ./cloud ./core/... ./web -run '^$$' -bench . -benchtime 20x
	cd e2e && npm ci --silent && node bench.mjs && node bench-book.mjs && node bench-fill.mjs
crash:
	REDLOCKET_KILLS=200 go test ./app -run TestKilledAtAnyMoment -v -timeout 30m
bootstrap:
	dir=$$(mktemp -d) && cd $$dir && npm init -y >/dev/null && npm install --silent bootstrap@5.3.9 sass@1.108.2 && \
	  npx sass --style=compressed --no-charset --no-source-map --quiet --load-path=node_modules $(CURDIR)/web/bootstrap.scss $(CURDIR)/web/static/vendor/bootstrap.min.css
dist:
	rm -rf dist && mkdir dist
	for os in linux darwin windows; do for arch in amd64 arm64; do \
	  ext=; [ $$os = windows ] && ext=.exe; \
	  CGO_ENABLED=0 GOOS=$$os GOARCH=$$arch go build -trimpath -ldflags='-s -w' -o dist/redlocket-$$os-$$arch$$ext ./cmd/redlocket || exit 1; done; done
