#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# queue = "lantern"
# gpus = 1
# gpu-memory = "80 GiB"
# ///
set -euo pipefail
true
