# build makes ./uparrot, one static program; test does what .ci/run does for the
# code; bench runs all benchmarks; screenshots draws the pictures in docs anew.

COMMIT := $(shell git rev-parse --short=12 HEAD 2>/dev/null)

.PHONY: build test bench screenshots
build:
	CGO_ENABLED=0 go build -trimpath -ldflags "-s -w -X uparrot/cli.commit=$(COMMIT)" -o uparrot .

test:
	go vet ./...
	go test ./...

bench:
	go test ./... -run '^$$' -bench .

screenshots: build
	docs/screenshots/make.sh
