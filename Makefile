# build makes ./uparrot for this machine, and shows what it compiles; release makes
# archives and packages for Linux, Windows and macOS in release/, with sums, licences
# and bills of materials; test does what .ci/run does for the code; fuzz tries
# each fuzz target for a minute, about half an hour in all (for the night); mutate changes
# the logic of one package in small ways, one at a time, and tells which its tests do not
# notice (make mutate PACKAGE=core/series SECONDS=1800); bench runs all benchmarks;
# screenshots draws the pictures in docs anew.
#
# "go run .", "go build", "go test" and "make build" share what they have compiled:
# only a release is built with other settings.

COMMIT := $(shell git rev-parse --short=12 HEAD 2>/dev/null)
STAMP := -X uparrot/cli/shell.commit=$(COMMIT)

.PHONY: build release test fuzz mutate bench screenshots
build:
	go build -v -ldflags "$(STAMP)" -o uparrot .

release:
	cd packaging && go run . --out ../release

test:
	go vet ./...
	go test ./...

fuzz:
	.ci/fuzz 60s

SECONDS := 1800
mutate:
	.ci/mutate $(PACKAGE) $(SECONDS)

bench:
	go test ./... -run '^$$' -bench .

screenshots: build
	docs/screenshots/make.sh
