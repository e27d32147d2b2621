#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# stage = { in = ["gone.nc"] }
# ///
set -euo pipefail
cd "$LQ_SCRATCH"
