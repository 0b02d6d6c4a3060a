# Two commands are all there is to know: make demo, make test.
export CGO_ENABLED := 0

.PHONY: demo demo-real build test lint needs bench shots

demo: build
	./bin/alibi demo

# The same company on real programs: OpenSSH, MariaDB, PHP, nginx, WordPress.
demo-real: build
	@script/real
	./bin/alibi demo --real

build:
	go build -trimpath -ldflags "-s -w" -o bin/alibi ./cmd/alibi

# What the tests talk to: a real PHP, a real terminal, a real SSH server.
needs:
	@script/needs

test: needs lint
	script/test

lint:
	@test -z "$$(gofmt -l cmd internal)" || { echo "not gofmt'd:"; gofmt -l cmd internal; exit 1; }
	go vet ./...
	go tool -modfile=tools/go.mod staticcheck ./...

bench:
	bench/run

shots: build
	script/shots
