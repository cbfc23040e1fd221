#!/bin/bash
# How many instructions the kernels take on arm64, in assembly and in plain Go: counted in an emulator,
# since there need be no such machine. It prints the table that is in docs/performance.md.
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
command -v qemu-aarch64 >/dev/null || { apt-get update -q && apt-get install -qy --no-install-recommends qemu-user; } >&2
gcc -O2 -shared -fPIC -Wall -o "$work/count.so" scripts/instructions/count.c
export GOGC=off GOMAXPROCS=1

# count PROGRAM BENCHMARK TIMES
count() {
	qemu-aarch64 -plugin "$work/count.so" "$1" -test.run '^$' -test.bench "$2" -test.benchtime "$3x" 2>&1 >/dev/null | awk '/^instructions/ { print $2 }'
}

echo "| kernel | instructions in Go | in assembly | ratio |"
echo "| --- | ---: | ---: | ---: |"
for package in motion h264 hevc; do
	GOARCH=arm64 CGO_ENABLED=0 go test -c -o "$work/$package" "./core/media/codec/$package"
	qemu-aarch64 "$work/$package" -test.run '^$' -test.bench Kernels -test.benchtime 1x | awk '/\/fast/ { sub(/^BenchmarkKernels\//, ""); sub(/\/fast.*/, ""); print }' | sort -u | while read -r kernel; do
		pattern="^BenchmarkKernels\$/^${kernel//+/.}\$"
		for which in plain fast; do
			few=$(count "$work/$package" "$pattern/^$which\$" 100)
			many=$(count "$work/$package" "$pattern/^$which\$" 20100)
			echo $(((many - few) / 20000))
		done | paste -sd ' ' | awk -v name="$package: ${kernel//_/ }" '{ printf "| %s | %d | %d | %.1f |\n", name, $1, $2, $1 / $2 }'
	done
done
