# build makes ./uparrot for this machine, and shows what it compiles; release makes
# one static program each for Linux, Windows and macOS; test does what .ci/run does
# for the code; bench runs all benchmarks; screenshots draws the pictures in docs
# anew.
#
# "go run .", "go build", "go test" and "make build" share what they have compiled:
# only a release is built with other settings.

COMMIT := $(shell git rev-parse --short=12 HEAD 2>/dev/null)
STAMP := -X uparrot/cli.commit=$(COMMIT)
TARGETS := linux/amd64 linux/arm64 windows/amd64 darwin/arm64

.PHONY: build release test bench screenshots
build:
	go build -v -ldflags "$(STAMP)" -o uparrot .

release:
	@for target in $(TARGETS); do \
		echo "$$target"; \
		CGO_ENABLED=0 GOOS=$${target%/*} GOARCH=$${target#*/} \
			go build -trimpath -ldflags "-s -w $(STAMP)" -o "release/uparrot-$$(echo $$target | tr / -)$$(test $${target%/*} = windows && echo .exe)" . || exit 1; \
	done

test:
	go vet ./...
	go test ./...

bench:
	go test ./... -run '^$$' -bench .

screenshots: build
	docs/screenshots/make.sh
