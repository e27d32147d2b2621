#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# scratch = "2 TiB"
# ///
set -euo pipefail
cd "$LQ_SCRATCH"
