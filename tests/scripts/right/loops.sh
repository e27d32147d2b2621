#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set -euo pipefail
count=0
for name in cases/*.csv; do
  [[ -e $name ]] || continue
  count=$((count + 1))
  echo "$count $name"
done
