#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# queue = "tidal"
# gpus = 2
# ///
set -euo pipefail
true
