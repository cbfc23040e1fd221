#!/bin/bash
# Codes the scenes in headless Chromium (WebCodecs, h264 at real-time settings)
# and here at the bitrate that came out there, and prints PSNR and SSIM of luma
# against the originals. Then codes the same frames at 1080p and 2160p in both, in turns, and prints
# frames a second and their ratio. Needs the package chromium.
set -euo pipefail
cd "$(dirname "$0")/.."
go test -run '^$' -bench QualityAgainstBrowser -benchtime 1x ./core/media/quality/browser
go test -run '^$' -bench EncodersAgainstBrowser -benchtime "${1:-3x}" ./core/media/quality/browser
