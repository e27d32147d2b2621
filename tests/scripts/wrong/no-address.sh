#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# notify = { on = ["failed"] }
# ///
set -euo pipefail
true
