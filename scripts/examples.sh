#!/bin/bash
# Runs every command of the README and of all help texts as it is typed, in a fresh home, and fails
# if one of them fails. What they need beside the program is provided: films, a process called
# player and one called ferryplayer with a screen, the host box (this computer, in /etc/hosts, which takes root), and the servers that
# another terminal would run. Holds are shortened by the environment; what takes long all
# the same gets a Ctrl-C and has to end as one that was interrupted. "examples.sh TEXT"
# runs only the commands that contain TEXT.
set -uo pipefail
cd "$(dirname "$0")/.."
readme=$PWD/README.md only=${1:-} failed=0 number=0
work=$(mktemp -d)
trap 'leave' EXIT
mkdir -p "$work/bin" "$work/Videos" "$work/desk" "$work/.config/fish/completions"
cp vividstrain "$work/bin/"
cp "$(command -v sleep)" "$work/bin/player"
go build -o "$work/bin/ferryplayer" ./core/route/program/testdata/player
export HOME=$work PATH=$work/bin:$PATH VIVIDSTRAIN_HOLD=2s VIVIDSTRAIN_SETTLE=0.5s VIVIDSTRAIN_BASELINE=0.5s VIVIDSTRAIN_REST=1s
unset XDG_CONFIG_HOME XDG_DATA_HOME XDG_CACHE_HOME
servers=() # running, by their process number
long='vividstrain (climb|crowd|demo|watch)( |$)'

leave() {
	close
	kill "$player" ${screen:-} 2>/dev/null
	[ -z "${hosts:-}" ] || { grep -v ' box # for the examples' /etc/hosts >"$work/hosts" && cat "$work/hosts" >/etc/hosts; }
	rm -rf "$work"
}

# close stops the servers, as at the end of a block of commands.
close() {
	[ ${#servers[@]} = 0 ] || { kill "${servers[@]}" 2>/dev/null; wait "${servers[@]}" 2>/dev/null; }
	servers=()
}

# listens tells whether someone listens at a port of this computer.
listens() { (exec 3<>"/dev/tcp/127.0.0.1/$1") 2>/dev/null; }

# begin starts a server and waits until it listens at a port.
begin() {
	bash -c "exec $2" >>"$work/servers.log" 2>&1 &
	servers+=($!)
	for _ in $(seq 100); do listens "$1" && return; sleep 0.1; done
	echo "nothing listens at $1: $2" && tail -3 "$work/servers.log" && failed=$((failed + 1))
}

# served is a command line that exec can start, with what it sets in the environment.
served() {
	case "$1" in
	*=*\ vividstrain\ *) echo "env $1" ;;
	*) echo "$1" ;;
	esac
}

# counts writes what the script of "watch --page" hands over, of a time that a run covers.
counts() {
	local began=$(date +%s%3N)
	vividstrain watch --for 3s --record >/dev/null 2>&1
	printf '{"schema":"vividstrain.page/1","samples":[[%d,0,5,0,0,720],[%d,1,5,25,1,720]]}' $((began + 1500)) $((began + 2500)) >vividstrain-page.json
}

# reviewed makes two runs that are named as in the examples, a folder of their documents, and a need.
reviewed() {
	local box
	for box in "lounge skerry-s1" "bridge breakwater-n2"; do
		set -- $box
		vividstrain show "$1" &>/dev/null && continue
		vividstrain climb --device "$2" "h264 720p25 4M" "h264 1080p25 8M" "h264 1080p50 16M" >/dev/null 2>&1
		vividstrain runs name "$(vividstrain runs --json | grep -m1 '"id"' | cut -d'"' -f4)" "$1"
		mkdir -p reviews && vividstrain export "$1" --out "reviews/$1.json"
	done
	printf 'name: cabins\nloads: [h264 1080p25 8M]\nprice: 250\n' >cabins.yaml
}

# provide does what a reader of the command would have done before.
provide() {
	case "$1" in *ferryplayer* | *--screen*) [ -n "${screen:-}" ] || { Xvfb :96 -screen 0 1280x720x24 -nolisten tcp -noreset >/dev/null 2>&1 & screen=$!; export DISPLAY=:96; sleep 1; } ;; esac
	case "$1" in *localhost:8080*) listens 8080 || begin 8080 "vividstrain serve --clips films" ;; esac
	case "$1" in *:9600*) [[ $1 == *--listen* ]] || listens 9600 || begin 9600 "env VIVIDSTRAIN_TOKEN=gangway vividstrain watch --listen :9600" ;; esac
	case "$1" in *--resume*) timeout -s INT 3 vividstrain climb "h264 240p25 0.5M" "h264 360p25 1M" "h264 480p25 2M" "h264 576p25 3M" >/dev/null 2>&1 ;; esac
	case "$1" in *box.db*) vividstrain --logbook box.db climb --device skerry-s1 >/dev/null 2>&1 ;; esac
	case "$1" in *"vividstrain import"*) counts ;; esac
	case "$1" in *lounge*bridge* | *"runs name"* | *"runs delete"* | *"vividstrain need"* | *"vividstrain capacity"* | *reviews* | *run.json*) reviewed ;; esac
	case "$1" in *"import run.json"*) vividstrain export lounge --out run.json && vividstrain runs delete lounge --yes >/dev/null ;; esac
	case "$1" in *"vividstrain trust"*) echo "hold: 2s" >vividstrain.yaml ;; esac
}

# try runs one command line and says how it went.
try() {
	local line=$1 status=0 wanted=0 limit=100 began=$SECONDS
	[[ $line == *"$only"* ]] || return
	number=$((number + 1))
	provide "$line"
	case "$line" in
	"vividstrain serve"*) close; begin 8080 "$line" ;;
	*"vividstrain watch --listen"*) close; begin 9600 "$(served "$line")" ;;
	*)
		[[ $line =~ $long ]] && limit=3 wanted=130
		timeout --preserve-status -s INT $limit bash -c "${line/#vividstrain/exec vividstrain}" >"$work/out" 2>&1 || status=$?
		;;
	esac
	printf '%3d %4d s  %s\n' $status $((SECONDS - began)) "$line"
	[ $status = 0 ] || [ $status = $wanted ] || { failed=$((failed + 1)); tail -5 "$work/out" | sed 's/^/            /'; }
}

# commands prints the indented command lines of a text, without comments, each whole on one line,
# and an empty line where a block ends.
commands() {
	sed -e ':join' -e '/\\$/{N;s/\\\n *//;b join}' | sed -nE \
		-e '/^$/p' -e 's/ +# .*//' -e 's/^ {4,5}((VIVIDSTRAIN_[A-Z]+=[^ ]+ )?vividstrain .*|source .*)$/\1/p'
}

# block runs the commands of a text.
block() {
	local line
	rm -f vividstrain.yaml small.mp4 harbour.* pieces.mp4
	while read -r line <&4; do
		if [ -z "$line" ]; then close; else try "$line"; fi
	done 4< <(commands)
	close
}

player 3600 &
player=$!
getent hosts box >/dev/null || { echo "127.0.0.1 box # for the examples" >>/etc/hosts; hosts=added; }
vividstrain clips build --out "$HOME/Videos" --seconds 2 "h264 240p25 1M" "h264 360p25 1M" >/dev/null 2>&1
cd "$work/desk"
block <"$readme"
vividstrain clips build --out films --seconds 20 "h264 240p25 0.5M" >/dev/null 2>&1
for command in $(vividstrain help | sed -n '/^COMMANDS:/,/^$/s/^   \([a-z]*\) .*/\1/p'); do
	block < <(vividstrain help "$command")
	for part in $(vividstrain help "$command" | sed -n '/^COMMANDS:/,/^$/s/^   \([a-z]*\) .*/\1/p'); do
		block < <(vividstrain help "$command" "$part")
	done
done
echo "$number commands, $failed failed"
[ $failed = 0 ] && [ $number -gt 0 ]
