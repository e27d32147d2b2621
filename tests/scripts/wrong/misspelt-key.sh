#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# trheads = 4
# ///
set -euo pipefail
true
