#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ranks = 16
# modules = ["mpi/5.0"]
# ///
set -euo pipefail
mpirun -n 8 hostname
