#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# expect = ["results.csv"]
# ///
set -euo pipefail
true
