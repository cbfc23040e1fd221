#!/bin/bash
# Decodes the same 1080p h264 streams in headless Chromium (WebCodecs, software)
# and here, in turns, and prints frames a second of both and their ratio. Needs
# the package chromium. The streams, about 12 and 40 Mb/s, are of Chromium's own
# encoder, and what a clip of 12 Mb/s is made of.
set -euo pipefail
cd "$(dirname "$0")/.."
go test -run '^$' -bench '^BenchmarkAgainstBrowser' -benchtime "${1:-5x}" ./core/media/quality/browser
