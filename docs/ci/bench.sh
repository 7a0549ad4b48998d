#!/bin/sh
# Checks all procedures and tables of the current folder, rehearses a procedure, and
# performs it on the stand-ins of a bench. Leaves what came of it in a folder: JUnit XML,
# SARIF, a page of each record. Ends with 1 where anything did not pass.
#
#   sh bench.sh [FOLDER]
set -u
out=${1:-results}
bench=${BENCH:-larkfell.toml}
procedure=${PROCEDURE:-commission.parrot}
port=${PORT:-valley}
input=${INPUT:-address=5}
mkdir -p "$out"
rm -f "$out"/*.xml "$out"/*.sarif "$out"/*.html "$out"/*.record "$out"/*.sqlite
failed=0

# does WHAT COMMAND...: performs a command, and keeps in mind that it did not pass.
does() {
	what=$1
	shift
	if "$@" >"$out/$what.txt" 2>&1; then
		echo "$what: passed"
	else
		echo "$what: did not pass (status $?)"
		cat "$out/$what.txt"
		failed=1
	fi
}

does check uparrot check . --as sarif --out "$out/check.sarif"
does rehearse uparrot rehearse "$procedure" --bench "$bench" --port "$port" --min-caught 90% --as junit --out "$out/rehearse.xml"

uparrot standin "$bench" >"$out/standin.txt" 2>&1 &
standin=$!
trap 'kill $standin 2>/dev/null' EXIT
tries=0
until grep -q 'for other commands' "$out/standin.txt"; do
	tries=$((tries + 1))
	if [ $tries -gt 100 ] || ! kill -0 $standin 2>/dev/null; then
		cat "$out/standin.txt"
		exit 1
	fi
	sleep 0.1
done
does run uparrot run "$procedure" --bench "$bench" --port "$port" --set "$input" --unit "$port" \
	--record "$out/run.record" --ledger "$out/runs.sqlite" --as junit --out "$out/run.xml"
does page uparrot report "$out/run.record" --as html --out "$out/run.html"
does record uparrot report "$out/run.record" --verify
exit $failed
