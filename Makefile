# Two commands are all there is to know: make demo, make test.
export CGO_ENABLED := 0

STATICCHECK := GOGC=400 go tool -modfile=tools/go.mod staticcheck ./...

.PHONY: demo demo-real build test race lint vet needs bench shots

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

# What staticcheck says is found out while the tests run.
test: needs vet
	$(STATICCHECK) & check=$$!; script/test; tests=$$?; wait $$check && exit $$tests

# The race detector over what has goroutines. It needs a C compiler; the engine of SQLite is C in Go,
# and left out of what is watched.
race: needs
	CGO_ENABLED=1 go test -race -gcflags='modernc.org/sqlite/...=-race=false' \
		-gcflags='modernc.org/libc/...=-race=false' -count=1 -timeout 30m $(or $(PKG),./internal/...)

lint: vet
	$(STATICCHECK)

vet:
	@test -z "$$(gofmt -l cmd internal)" || { echo "not gofmt'd:"; gofmt -l cmd internal; exit 1; }
	GOGC=400 go vet ./...

bench:
	bench/run

shots: build
	script/shots
