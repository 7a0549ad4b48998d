#!/usr/bin/env bash
# Draws the pictures in this folder anew from the demo data. Needs Xvfb, xterm,
# xdotool, ImageMagick and Chromium (Debian: xvfb xterm xdotool imagemagick
# fonts-dejavu-core chromium), and ./uparrot built by make.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
top=$(cd "$here/../.." && pwd)
work=$(mktemp -d)
export DISPLAY=:97 PATH="$top:$PATH" HOME="$work"
only=${1:-} # a picture's name draws that one alone
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

# shot NAME SECONDS COMMAND [KEYS]: what a terminal shows that long after COMMAND
# began, or after the function KEYS has typed.
shot() {
	if [ -n "$only" ] && [ "$only" != "$1" ]; then
		[ "$1" != demo ] || (cd "$work" && uparrot demo >/dev/null 2>&1)
		return
	fi
	local keys=${4:-}
	(cd "$work" && exec xterm -geometry 158x53+0+0 -fa 'DejaVu Sans Mono' -fs 9 -xrm 'XTerm*boldColors: false' -xrm 'XTerm*color2: #006a20' -xrm 'XTerm*color1: #b00020' -xrm 'XTerm*color3: #8a5a00' -bg '#ffffff' -fg '#202020' -e bash -c "PS1=; printf '\$ %s\n' \"$3\"; $3; sleep 60") &
	local term=$!
	if [ -n "$keys" ]; then
		sleep 1.5
		$keys
	fi
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
for radio in valley=1 summit=2; do # also where the picture above is not drawn
	(cd "$work" && uparrot run commission.parrot --bench larkfell.toml --port "${radio%=*}" --set address="${radio#*=}" --quiet >/dev/null)
done
shot link 16 "uparrot link test valley summit --bench larkfell.toml --both --every 50ms --max-loss 8%"
sed -e 's/{=address}/{=addres}/' -e 's/within 5s/within 5/' -e 's/0\.\.14 dBm/14..0 dBm/' -e '0,/say radio: AT$/s//sya radio: AT/' "$work/commission.parrot" >"$work/mistakes.parrot"
sed -e '0,/AT~NODE?/s//AT~NOED?/' -e 's/AT~NODE={address}/AT~NODE=70000/' "$work/commission.parrot" >"$work/guide.parrot"
shot check 2 "uparrot check mistakes.parrot; uparrot check guide.parrot"
sed -e 's/channel: int 0..79/channel: int 0..99/' -e 's/phrasebook "dunlin.toml"/phrasebook "guide.toml"/' "$work/commission.parrot" >"$work/refused.parrot"
sed -e 's/range = \[0, 79\]/range = [0, 99]/' "$work/dunlin.toml" >"$work/guide.toml" # a guide that is wrong
shot rehearse 2 "uparrot rehearse hasty.parrot"
shot refused 3 "uparrot run refused.parrot --bench larkfell.toml --port valley --set address=1 --set channel=80"
kill $standin
wait $standin 2>/dev/null || true
cat >"$work/map.toml" <<'TOML'
[port.valley]
phrasebook = "dunlin.toml"
hears = ["summit", "tower"]
[port.valley.standin]
family = "dunlin"
settings = { node = 1, group = 7 }
[port.summit]
phrasebook = "dunlin.toml"
hears = ["valley", "tower"]
[port.summit.standin]
family = "dunlin"
place = 1400.0
settings = { node = 2, group = 7 }
[port.tower]
phrasebook = "dunlin.toml"
hears = ["valley", "summit", "garage"]
[port.tower.standin]
family = "dunlin"
place = 700.0
settings = { node = 3, group = 7 }
[port.garage]
phrasebook = "dunlin.toml"
hears = []
[port.garage.standin]
family = "dunlin"
place = 30.0
settings = { node = 4, group = 9 }
[air]
seed = 3
loss = "2%"
delay = "20ms"
rate = 4800
preamble = "15ms"
buffer = 400
TOML
(cd "$work" && exec uparrot standin map.toml >/dev/null 2>&1) &
standin=$!
sleep 1
(cd "$work" && uparrot link map --bench map.toml --plot map.png --quiet >/dev/null || true)
(cd "$work" && uparrot link capacity valley summit --bench map.toml --max-loss 6% --trial 4s --plot load.png --quiet >/dev/null)
cp "$work/map.png" "$work/load.png" "$here"
kill $standin
wait $standin 2>/dev/null || true
cp "$top"/examples/tray.csv "$work"
(cd "$work" && exec uparrot standin tray.toml >/dev/null 2>&1) &
standin=$!
sleep 1
tray() { # a hand puts the next module into each place; one does not keep its power
	sleep 1
	for round in 1 2 3; do
		for place in 1 2 3 4; do
			fault=
			[ "$round$place" != 33 ] || fault=" loses=power"
			(cd "$work" && uparrot standin tray.toml --tell "swap place$place serial=DL-24$round$place$fault")
			sleep 0.4
		done
	done
}
shot board 3 "uparrot run anyradio.parrot --units tray.csv --bench tray.toml --slots all --next answer --ledger tray.sqlite" tray
kill $standin
wait $standin 2>/dev/null || true
(cd "$work" && exec uparrot standin workshop.toml >/dev/null 2>&1) &
standin=$!
sleep 1
say() { xdotool type --delay 15 -- "$1"; xdotool key Return; sleep 0.4; }
live() {
	xdotool key Down Down Down minus minus; sleep 22
	xdotool type -- 'm'; sleep 0.3
	say 'gate opened'
	sleep 12
	xdotool key plus plus
}
shot watch 1 "uparrot watch mast --bench workshop.toml --limit 'wind=0..8 m/s' --no-ledger" live
(cd "$work" && uparrot watch mast --reading wind --bench workshop.toml --limit 'wind=0..13 m/s' --for 90s --no-ledger --record mast.record >/dev/null 2>&1 || true)
kill $standin
wait $standin 2>/dev/null || true
(cd "$work" && exec uparrot standin station.toml >/dev/null 2>&1) &
standin=$!
sleep 1
cat >"$work/bring-up.sh" <<'SH'
show() { printf '\n$ %s\n' "$*"; "$@"; }
show uparrot probe modem --bench station.toml
show uparrot standin station.toml --tell 'wire gates level'
show uparrot probe gates --bench station.toml --speeds 9600,115200
show uparrot standin station.toml --tell 'wire gates looped'
show uparrot loopback gates --bench station.toml --no-ask
show uparrot standin station.toml --tell 'wire gates crossed'
show uparrot probe gates --bench station.toml
SH
shot probe 46 "bash bring-up.sh"
two() {
	say who
	say 'relay 1 on'
	xdotool key ctrl+n; sleep 0.2
	xdotool key F6; sleep 0.2
	say 38400
	say AT+CGMI
	say '@error form=2'
	say AT+CGMX
	sleep 4
	xdotool key F10; sleep 0.2
	xdotool type -- '@si'
}
shot talk 1 "uparrot talk gates modem --bench station.toml" two
kill $standin
wait $standin 2>/dev/null || true
standin=
shot demo 26 "uparrot demo"
ledger=larkfell/evidence/ledger.sqlite
shot results 3 "uparrot results --ledger $ledger; echo; uparrot results yield --ledger $ledger --procedure brake; echo; uparrot results show last --ledger $ledger | grep -v ^machine"

# page NAME FILE [FLAG]: a page as a browser shows it.
page() {
	[ -z "$only" ] || [ "$only" = "$1" ] || return 0
	chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync \
		--hide-scrollbars --user-data-dir="$(mktemp -d -p "$work")" ${3:-} --window-size=1280,${4:-800} --screenshot="$here/$1.png" "file://$work/larkfell/evidence/$2" >/dev/null 2>&1
}
page report brambling.html
(cd "$work" && uparrot report mast.record --as html --out larkfell/evidence/mast.html)
page series mast.html "" 1500
[ -n "$only" ] && [ "$only" != series ] || convert "$here/series.png" -crop 1280x800+0+515 +repage "$here/series.png"
(cd "$work" && uparrot phrasebook show dunlin.toml --as html --out larkfell/evidence/dunlin.html)
page phrasebook dunlin.html
page report-link link.html --blink-settings=preferredColorScheme=0

# Twelve units of one sort, for a trend.
(cd "$work" && exec uparrot standin workshop.toml >/dev/null 2>&1) &
standin=$!
sleep 1
for n in 01 02 03 04 05 06 07 08 09 10 11 12; do
	(cd "$work" && uparrot run siskin.parrot --bench workshop.toml --quiet --ledger units.sqlite --unit "SK-00$n" >/dev/null 2>&1)
done
kill $standin
wait $standin 2>/dev/null || true
(cd "$work" && uparrot results trend "strength of the badge" --ledger units.sqlite --plot "$here/trend.png" --overwrite)
