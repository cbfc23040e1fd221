#!/bin/bash
# Runs the benchmarks of what takes time, of a commit and of the working copy in turns, and prints a table in
# Markdown: the best of each, and their ratio. What others take of a shared machine only makes slower, by more than
# what is compared; and each round runs both one after the other, so that a slow minute is one for both.
#   scripts/compare.sh [COMMIT [ROUNDS]]
# COMMIT is the last release by default, or else the first commit; ONLY=REGEXP chooses packages, and
# SIZES="(1080|2160)" the sizes of pictures, 1080 by default: larger ones take minutes.
set -euo pipefail
cd "$(dirname "$0")/.."
base=${1:-$(git describe --tags --abbrev=0 2>/dev/null || git rev-list --max-parents=0 HEAD | tail -1)} rounds=${2:-4}
work=$(mktemp -d)
trap 'git worktree remove --force "$work/base" 2>/dev/null || true; rm -rf "$work"' EXIT
git worktree add -q --detach "$work/base" "$base"

# Package, its benchmarks, and how often each is run in a round.
list="core/media/registry Codecs/.*${SIZES:-1080}p 1x
core/media/clip Clip/h264 1x
core/transcode Convert/h264 1x
core/route/server Bulk 1x
core/sense/local Local 1000x"

while read -r package benchmarks times; do
	[[ $package =~ ${ONLY:-.} ]] || continue
	name=${package//\//-}
	(cd "$work/base" && go test -c -o "$work/$name.before" "./$package")
	go test -c -o "$work/$name.after" "./$package"
	for round in $(seq "$rounds"); do
		# In turns, so that neither side always has the cores after a pause, when a shared machine is quicker.
		sides="before after"
		((round % 2)) || sides="after before"
		for side in $sides; do
			root=.
			[ $side = after ] || root=$work/base
			echo "$package, round $round of $rounds, $side" >&2
			(cd "$root/$package" && "$work/$name.$side" -test.run '^$' -test.bench "^Benchmark$benchmarks" -test.benchtime "$times") |
				awk -v side=$side '/^Benchmark/ { for (i = 3; i < NF; i += 2) print side "\t" substr($1, 10) "\t" $(i+1) "\t" $i }' >>"$work/figures"
		done
	done
done <<<"$list"

sort -t$'\t' -k2,2 -k3,3 -k1,1r -k4,4g "$work/figures" | awk -F'\t' '
	# Sorted, the last is the best of speeds and shares, the first of what is taken.
	function close_() { if (n) m[side] = unit ~ /\/s$|^x-|bare|dB/ ? v[n] : v[1]; n = 0 }
	function row() {
		close_()
		if (what != "" && unit != "ns/op" && ("before" in m) && ("after" in m))
			printf "| %s | %s | %s | %.4g | %.4g |\n", what, unit, m["before"] ? sprintf("%.2f", m["after"] / m["before"]) : "-", m["before"], m["after"]
		delete m
	}
	BEGIN { print "| what | unit | after / before | before | after |\n| --- | --- | ---: | ---: | ---: |" }
	$2 != what || $3 != unit { row(); what = $2; unit = $3; side = $1 }
	$1 != side { close_(); side = $1 }
	{ v[++n] = $4 }
	END { row() }' | sed -E 's/-[0-9]+ \|/ |/; s/_/ /g; s,Codecs/(.*)/encode,\1 coded,; s,Codecs/(.*)/decode 1,\1 decoded on one thread,; s,Codecs/(.*)/decode 2,\1 decoded on two threads,
	s,Clip/,clip of ,; s,Convert/,conversion of ,; s,^. Bulk,| viewers in bulk,; s,^. Local,| sampling this computer,'
