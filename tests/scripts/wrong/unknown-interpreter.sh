#!/usr/bin/env basj
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set -euo pipefail
true
