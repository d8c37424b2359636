#!/usr/bin/env bash
# replay.sh TARGET CORPUS.tar.xz: runs a fuzz target over every input of its minimised corpus, once.
set -euo pipefail
folder=$(mktemp -d)
trap 'rm -rf "$folder"' EXIT
tar -xJf "$2" -C "$folder"
count=$(find "$folder" -type f | wc -l)
[ "$count" -gt 0 ] || { echo "the corpus $2 is empty" >&2; exit 1; }
find "$folder" -type f -print0 | xargs -0 "$1" -rss_limit_mb=2048 -timeout=60 >"$folder.log" 2>&1 || { tail -40 "$folder.log"; rm -f "$folder.log"; exit 1; }
rm -f "$folder.log"
echo "$count inputs"
