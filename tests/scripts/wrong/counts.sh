#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# nodes = 2
# ranks-per-node = 4
# ranks = 10
# ///
set -euo pipefail
mpirun --hostfile "$LQ_NODES" true
