#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# account = "tide-surg"
# ///
set -euo pipefail
true
