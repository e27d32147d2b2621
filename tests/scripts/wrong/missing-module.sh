#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# modules = ["surge/2.3"]
# ///
set -euo pipefail
true
