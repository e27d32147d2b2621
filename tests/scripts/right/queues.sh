#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# queue = ["tidal", "deep"]
# traits = "avx512 and not gpu"
# ///
set -euo pipefail
date
