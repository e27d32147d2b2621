#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# threads = 40
# ///
set -euo pipefail
true
