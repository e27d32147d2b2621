#!/usr/bin/env bash
# /// job
# name     = "kelp-train"
# queue    = "lantern"
# walltime = "6h"
# gpus     = 2
# gpu-memory = "40 GiB"
# threads  = 8
# memory   = "6 GiB/core"
# output   = "logs/{name}-{job}.txt"
# modules  = ["kelp/0.9"]
# warn     = "10m"
# at-overtime = "again"
# ///
# Trains the growth model on two GPUs; saves before its end and carries on in the next turn.
set -euo pipefail
trap 'touch "save-$LQ_JOB"' USR1
kelp-train --gpus "$LQ_GPUS" --resume "model-$LQ_JOB" --save-when "save-$LQ_JOB"
