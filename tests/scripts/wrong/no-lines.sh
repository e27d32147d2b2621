#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
#
# [array.sweep]
# case = { lines = "gone.txt" }
# ///
set -euo pipefail
echo "$case"
