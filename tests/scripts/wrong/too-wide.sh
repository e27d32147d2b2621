#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# nodes = 1
# ranks = 48
# modules = ["mpi/5.0"]
# ///
set -euo pipefail
mpirun --hostfile "$LQ_NODES" true
