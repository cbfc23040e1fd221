#!/bin/bash
# Codes the scenes in headless Chromium (WebCodecs, h264 at real-time settings)
# and here at the bitrate that came out there, and prints PSNR and SSIM of luma
# against the originals. Needs the package chromium.
set -euo pipefail
cd "$(dirname "$0")/.."
go test -run '^$' -bench QualityAgainstBrowser -benchtime 1x ./core/media/quality/browser
