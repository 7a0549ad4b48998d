#!/usr/bin/env bash
# Draws the pictures in this folder anew from the demo data. Needs Xvfb, xterm
# and ImageMagick (Debian: xvfb xterm imagemagick fonts-dejavu-core), and
# ./uparrot built by make.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
top=$(cd "$here/../.." && pwd)
work=$(mktemp -d)
export DISPLAY=:97 PATH="$top:$PATH"
Xvfb $DISPLAY -screen 0 1280x800x24 >/dev/null 2>&1 &
screen=$!
standin=
finish() {
	[ -z "$standin" ] || kill "$standin" 2>/dev/null || true
	kill $screen 2>/dev/null || true
	rm -rf "$work"
}
trap finish EXIT
sleep 1

# shot NAME SECONDS COMMAND: what a terminal shows that long after COMMAND began.
shot() {
	(cd "$work" && exec xterm -geometry 158x54+0+0 -fa 'DejaVu Sans Mono' -fs 9 -xrm 'XTerm*boldColors: false' -xrm 'XTerm*color2: #006a20' -xrm 'XTerm*color1: #b00020' -xrm 'XTerm*color3: #8a5a00' -bg '#ffffff' -fg '#202020' -e bash -c "PS1=; printf '\$ %s\n' \"$3\"; $3; sleep 60") &
	local term=$!
	sleep "$2"
	import -window root "$here/$1.png"
	kill $term 2>/dev/null || true
	wait $term 2>/dev/null || true
	sleep 2
}

cp "$top"/examples/*.toml "$top"/examples/*.parrot "$work"
(cd "$work" && exec uparrot standin larkfell.toml >/dev/null 2>&1) &
standin=$!
sleep 1
shot run 4 "uparrot run commission.parrot --bench larkfell.toml --port valley --set address=1"
(cd "$work" && uparrot run commission.parrot --bench larkfell.toml --port summit --set address=2 --quiet >/dev/null)
shot link-progress 5 "timeout -s INT 6 uparrot link test valley summit --bench larkfell.toml --both --every 50ms --max-loss 8% --max-p95 150ms"
shot link 16 "uparrot link test valley summit --bench larkfell.toml --both --every 50ms --max-loss 8% --max-p95 150ms"
sed -e 's/{=address}/{=addres}/' -e 's/within 5s/within 5/' -e 's/0\.\.14 dBm/14..0 dBm/' -e '0,/say radio: AT$/s//sya radio: AT/' "$work/commission.parrot" >"$work/mistakes.parrot"
shot check 2 "uparrot check mistakes.parrot larkfell.toml"
sed -e 's/AT~CHANNEL={channel}/AT~CHANNEL=80/' "$work/commission.parrot" >"$work/refused.parrot"
shot refused 3 "uparrot run refused.parrot --bench larkfell.toml --port valley --set address=1"
kill $standin
wait $standin 2>/dev/null || true
standin=
shot demo 22 "uparrot demo"
cp "$work/larkfell/latency.png" "$here/latency.png"
