#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# whole-nodes = true
# ranks = 4
# modules = ["mpi/5.0"]
# ///
set -euo pipefail
mpirun hostname
