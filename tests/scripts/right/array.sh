#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
#
# [array]
# tasks = "1..40"
# ///
set -euo pipefail
sed -n "${LQ_TASK}p" cases/list.csv
