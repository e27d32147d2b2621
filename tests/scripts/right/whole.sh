#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# nodes = 2
# whole-nodes = true
# ranks-per-node = 32
# modules = ["mpi/5.0"]
# ///
set -euo pipefail
mpirun --hostfile "$LQ_NODES" hostname
