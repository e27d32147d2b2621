#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set -euo pipefail
for f in $(ls); do
  if [ "$f" > 3 ]; then
    rm -r "$f/"
  fi
done
