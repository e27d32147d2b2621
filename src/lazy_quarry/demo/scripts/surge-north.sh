#!/usr/bin/env bash
# /// job
# name     = "surge-north"
# account  = "tide-surge"
# queue    = "tidal"
# nodes    = 2
# ranks    = 16
# threads  = 2
# memory   = "3 GiB/core"
# walltime = "2h 30m"
# output   = "logs/{name}-{job}.txt"
# modules  = ["mpi/5.0", "surge/2.1"]
# ///
set -euo pipefail
mkdir -p results
mpirun --hostfile "$LQ_NODES" surge --level 1.0 --grid grids/north.nc \
       --out "results/north-$LQ_JOB.nc"
