#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ranks = 8
# ///
set -euo pipefail
python3 -c "print(1)"
