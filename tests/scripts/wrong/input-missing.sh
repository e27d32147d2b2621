#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# input = "cases.txt"
# ///
set -euo pipefail
cat
