#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# queue = "lantern"
# gpus = 2
# gpu-memory = "40 GiB"
# threads = 8
# modules = ["kelp/0.9"]
# ///
set -euo pipefail
kelp-train --gpus "$LQ_GPUS" --to "$LQ_SCRATCH/model"
