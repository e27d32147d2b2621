#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# threads = 4
# ///
set -euo pipefail
export OMP_NUM_THREADS=8
date
