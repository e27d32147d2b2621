#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# stage = { in = ["plain.sh"] }
# ///
set -euo pipefail
date
