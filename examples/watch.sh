#!/bin/sh
# Works a run from a shell, with curl alone:
#
#     zavrek serve demo/veskar                    # prints its address
#     examples/watch.sh http://127.0.0.1:41200 veskar
#
# Starts the case for two seconds, strikes a fault, watches what happens, and keeps the latest second as a record.
set -e
engine=$1 case=$2
post() { curl -sf -X POST -H "Content-Type: application/json" -d "$2" "$engine/api/v1$1"; echo; }
post "/cases/$case/start" '{"place": "plant", "for": "2 s"}'
sleep 1
post /run/strike '{"lasts": "100 ms"}'
curl -sN --max-time 3 "$engine/api/v1/run/stream?signals=VT0.va" || true
curl -sf "$engine/api/v1/run/capture?seconds=1" -o "${TMPDIR:-/tmp}/$case-capture.zip"
