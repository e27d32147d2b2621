#!/usr/bin/env bash
# /// job
# name     = "sediment-long"
# account  = "tide-surge"
# nodes    = 2
# ranks    = 96
# walltime = "4d"
# memroy   = "3 GiB/core"
# ///
set -euo pipefail
mpirun --hostfile "$LQ_NODES" sediment --bed bed.nc
