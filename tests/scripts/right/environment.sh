#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# environment = { TIDE = "high", inherit = false }
# ///
set -euo pipefail
echo "$TIDE"
