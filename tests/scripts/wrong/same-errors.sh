#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# output = "out-{job}.txt"
# errors = "err"
# ///
set -euo pipefail
true
