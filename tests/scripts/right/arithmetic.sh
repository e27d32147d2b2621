#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set -euo pipefail
for ((i = 0; i < 3; i++)); do
  echo "$i of $((i * 2))"
done
