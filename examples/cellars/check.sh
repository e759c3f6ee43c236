#!/usr/bin/env bash
# Checks this fleet folder, for any CI that can call a script. It needs nothing
# but the ullage binary on the path, and ends with 3 if something is wrong.
# FORMAT=sarif writes findings that code hosts can show beside the lines.
set -euo pipefail
exec "${ULLAGE:-ullage}" check "$(dirname "$0")" --output "${FORMAT:-table}"
