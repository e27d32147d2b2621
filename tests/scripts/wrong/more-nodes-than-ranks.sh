#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# nodes = 4
# ranks = 2
# ///
set -euo pipefail
mpirun --hostfile "$LQ_NODES" true
