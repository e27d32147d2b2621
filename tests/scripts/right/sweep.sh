#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# output = "logs/{name}-{job}-{level}.txt"
#
# [array]
# at-once = 2
#
# [array.sweep]
# level = { range = "0.5..2 by 0.5" }
# grid = { files = "cases/*.csv" }
# ///
set -euo pipefail
wc "$grid" && echo "$level"
