#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set -euo pipefail
depth=${DEPTH:-3}
step=${STEP-1}
echo "$depth $step"
