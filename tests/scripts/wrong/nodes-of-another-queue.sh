#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# queue = "tidal"
# on-nodes = "m01..m02"
# ///
set -euo pipefail
true
