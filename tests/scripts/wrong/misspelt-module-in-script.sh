#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set -euo pipefail
module load netcfd/4.9
ncdump x
