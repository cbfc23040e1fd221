#!/bin/bash
# Takes the pictures of docs/screenshots: each command in a real terminal window
# under a virtual X server. Needs xvfb, xterm, imagemagick and fonts-dejavu-core.
set -euo pipefail
cd "$(dirname "$0")/.."
out=$PWD/docs/screenshots
work=$(mktemp -d)
trap 'kill $xvfb 2>/dev/null; rm -rf "$work"' EXIT
cp vividstrain "$work/"
go build -o "$work/ferryplayer" ./core/route/program/testdata/player
Xvfb :97 -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 &
xvfb=$!
export DISPLAY=:97 HOME=$work PATH=$work:$PATH
sleep 1

# shot NAME SECONDS COMMAND... takes the picture so long after the start.
shot() {
	local name=$1 seconds=$2
	shift 2
	(cd "$work" && exec xterm -geometry ${geometry:-126x40}+0+0 -fa 'DejaVu Sans Mono' -fs ${size:-12} -bg '#10141a' -fg '#d8dee6' -T vividstrain \
		-e bash -c 'echo "$ $*"; "$@"; sleep 600' _ "$@") &
	local terminal=$!
	sleep "$seconds"
	import -window root "$out/$name.png"
	kill $terminal
	wait $terminal 2>/dev/null || true
	echo "docs/screenshots/$name.png"
}

only=${1:-}
want() { [ -z "$only" ] || [ "$only" = "$1" ]; }
want demo && geometry=126x64 size=8 shot demo 150 bash -c "env -u DISPLAY vividstrain demo --out demo 2>/dev/null"
if want report || want compare; then
	for box in skerry-s1 breakwater-n2; do (cd "$work" && vividstrain climb --device "$box" --ladder lounge >/dev/null 2>&1); done
	(cd "$work" && vividstrain report "$(vividstrain runs --device skerry --json | grep -m1 '"id"' | cut -d'"' -f4)" --out report.html >/dev/null)
	want report && chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,1700 --user-data-dir="$work/reader" \
		--screenshot="$out/report.png" "file://$work/report.html" >/dev/null 2>&1
	(cd "$work" && vividstrain compare $(vividstrain runs --json | grep '"id"' | cut -d'"' -f4) --out boxes.html >/dev/null)
	want compare && chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,1300 --user-data-dir="$work/reader" \
		--screenshot="$out/compare.png" "file://$work/boxes.html" >/dev/null 2>&1
fi
(cd "$work" && vividstrain clips build --ladder quick --out clips --seconds 5 >/dev/null)
want climb-live && shot climb-live 17 vividstrain climb --hold 5s --clips clips --ladder quick
want climb && shot climb 4 vividstrain climb --device skerry-s1 --ladder lounge
mkdir -p "$work/films"
while read -r from to; do
	"$work/vividstrain" rewrap "core/media/codec/h264/testdata/$from.264" "$work/films/$to" >/dev/null
done <<-END
	high-640 lounge-evening.mkv
	main-weighted cabin-loop.mp4
	high-opengop safety-film.ts
	high-mbaff-cabac deck-camera.ts
	high10-420 harbour-10bit.mkv
	high422-10 kelp-master.mp4
END
want climb-files && shot climb-files 45 vividstrain climb --hold 3s --settle 1s --baseline 1s films "h264 480p30 2M"
want inspect && shot inspect 3 bash -c "vividstrain inspect films/* clips/h264-720p25-4M-5s.mp4; echo; vividstrain inspect films/lounge-evening.mkv"
want clips && shot clips 32 bash -c "vividstrain clips list clips; echo; vividstrain clips verify clips"
want ladders && shot ladders 2 bash -c 'vividstrain ladders; echo; vividstrain devices; echo; vividstrain ladders show broadcast'
want page-address && shot page-address 3 vividstrain climb --route page --name "lounge TV"
want page && {
	(cd "$work" && exec vividstrain climb --route page --listen 127.0.0.1:8600 --name "lounge TV" --hold 4s --clips clips --ladder quick >page.log 2>&1) &
	measuring=$!
	sleep 2
	chromium --no-sandbox --test-type --disable-gpu --no-first-run --disable-background-networking --user-data-dir="$work/tv" --window-size=1280,800 --window-position=0,0 --start-fullscreen \
		"$(grep -o 'http://[^ ]*/' "$work/page.log" | head -1)?go" >/dev/null 2>&1 &
	wait $measuring
	sleep 1
	import -window root "$out/page.png"
	pkill -f "$work/tv" || true
	echo docs/screenshots/page.png
}
want program && (cd "$work" && vividstrain clips build --out clips "h264 720p25 4M" >/dev/null 2>&1) &&
	shot program 75 bash -c 'vividstrain climb --start "ferryplayer -window 640x360 -drop 70 -obey to {file}" --eye "x11:ferry" --jump "ferryplayer -write to {position_s}" --hold 5s --baseline 1s "h264 360p25 1M" 2>/dev/null; echo; vividstrain recount clips/h264-720p25-4M-5s.mp4'
want sensors && geometry=182x57 size=8 shot sensors 5 vividstrain sensors
want watch && {
	(cd "$work" && vividstrain climb --hold 60s --clips clips "h264 1080p25 10M" >/dev/null 2>&1) &
	sleep 12
	shot watch 25 vividstrain watch --process vividstrain
	pkill -f "climb --hold 60s" || true
}
if want convert || want crowd || want serve || want matrix; then
	(cd "$work" && vividstrain clips build --out served --seconds 40 "h264 720p25 4M" "h264 240p25 10bit hdr 1M" >/dev/null)
	want convert && geometry=100x22 shot convert 45 vividstrain convert served/h264-720p25-4M-40s.mp4 --goal "360p 1M" --copies 2 --ahead 10s
	# A server in one terminal, a crowd in the other.
	(cd "$work" && exec xterm -geometry 126x9+0+0 -fa 'DejaVu Sans Mono' -fs 12 -bg '#10141a' -fg '#d8dee6' \
		-e bash -c 'echo "$ $*"; "$@"; sleep 600' _ vividstrain serve --clips served --cores 1.2) &
	server=$!
	sleep 3
	want serve && chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,480 --user-data-dir="$work/browser" \
		--screenshot="$out/serve.png" http://localhost:8080/ >/dev/null 2>&1
	want matrix && shot matrix 260 vividstrain climb "h264 720p25 4M" "h264 240p25 10bit hdr 1M" --goal "240p 0.4M" --goal "160p 0.3M sdr" --jumps 3 \
		--hold 12s --settle 3s --url "http://localhost:8080/film/{clip}/hls/{goal}/list.m3u8" --sensors http://localhost:8080/metrics
	want crowd && {
		(cd "$work" && exec xterm -geometry 126x29+0+210 -fa 'DejaVu Sans Mono' -fs 12 -bg '#10141a' -fg '#d8dee6' \
			-e bash -c 'echo "$ $*"; "$@"; sleep 600' _ vividstrain crowd "h264 720p25 4M -> 240p 0.4M" --hold 12s --settle 4s \
			--url "http://localhost:8080/film/{clip}/hls/{goal}/list.m3u8" --sensors http://localhost:8080/metrics) &
		terminal=$!
		sleep 13
		import -window root "$out/crowd-live.png"
		sleep 235
		import -window root "$out/crowd.png"
		kill $terminal
	}
	kill $server
	pkill -f "serve --clips served" || true
fi
exit 0
