#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# nodes = 3
# ranks = 6
# ///
set -euo pipefail
python3 -c "print(1)"
