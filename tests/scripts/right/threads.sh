#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# threads = 8
# modules = ["tracks/1.3"]
# ///
set -euo pipefail
tracks --threads "$LQ_THREADS" cases/list.csv
