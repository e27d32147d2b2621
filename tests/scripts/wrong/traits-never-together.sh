#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# traits = "bigmem and gpu"
# queue = ["tidal", "deep", "lantern"]
# ///
set -euo pipefail
true
