a   0Un6dcd,   0Un6dcd,   0Un6dcd,!/usr/bin/env bash
# /// job
# name     = "surge-ensemble"
# queue    = "tidal"
# walltime = "2h"
# nodes    = 2
# ranks-per-node = 16
# threads  = 2
# memory   = "3 GiB/core"
# output   = "logs/{name}-{job}.txt"
# modules  = ["mpi/5.0", "surge/2.1"]
# expect   = ["results/levels.nc"]
# ///
# A storm surge over the estuary: MPI over nodes, two threads a rank.
set -euo pipefail
mkdir -p results
mpirun --hostfile "$LQ_NODES" surge --level 1.5 --steps 2000 --out results/levels.nc
