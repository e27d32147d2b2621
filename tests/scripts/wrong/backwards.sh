#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
#
# [array]
# tasks = "9..1"
# ///
set -euo pipefail
echo "$LQ_TASK"
