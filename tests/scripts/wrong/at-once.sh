#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
#
# [array]
# tasks = "1..4"
# at-once = 9
# ///
set -euo pipefail
echo "$LQ_TASK"
