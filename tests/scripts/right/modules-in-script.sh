#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set -euo pipefail
module load netcdf/4.9
ncdump -h "$1"
