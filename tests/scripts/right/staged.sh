#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# stage = { in = ["cases/list.csv"], out = ["sorted.csv"] }
# ///
set -euo pipefail
cd "$LQ_SCRATCH"
sort cases/list.csv > sorted.csv
