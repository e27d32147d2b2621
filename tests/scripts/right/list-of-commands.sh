#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
#
# [array.sweep]
# line = { lines = "cases/list.csv" }
# ///
set -euo pipefail
bash -c "$line"
