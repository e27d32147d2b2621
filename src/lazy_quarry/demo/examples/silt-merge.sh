#!/usr/bin/env bash
# /// job
# name     = "silt-merge"
# queue    = ["tidal", "deep"]
# walltime = "45m"
# ranks    = 4
# nodes    = "any"
# memory   = "12 GiB/rank"
# output   = "logs/{name}-{job}.txt"
# modules  = ["mpi/5.0", "netcdf/4.9"]
# ///
# Four ranks wherever there is room, in whichever queue has it first.
set -euo pipefail
mpirun --hostfile "$LQ_NODES" nccopy -u "$LQ_NAME-in.nc" "$LQ_NAME-out.nc"
