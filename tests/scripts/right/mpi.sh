#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# nodes = 2
# ranks = 16
# threads = 2
# modules = ["mpi/5.0", "surge/2.1"]
# ///
set -euo pipefail
mpirun --hostfile "$LQ_NODES" surge --case north --out "results/north-$LQ_JOB.nc"
