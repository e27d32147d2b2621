#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set -euo pipefail
while IFS=, read -r name depth; do
  echo "$name is $depth deep"
done < cases/list.csv
