#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# expect = ["a.txt"
# ///
set -euo pipefail
true
