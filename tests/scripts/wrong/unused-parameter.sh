#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
#
# [array.sweep]
# level = [1, 2]
# grid = ["a", "b"]
# ///
set -euo pipefail
echo "$level"
