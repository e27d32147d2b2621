#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# output = "out-{jobs}.txt"
# ///
set -euo pipefail
true
