#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set -euo pipefail
set +e
grep -c "a.b" cases/list.csv | awk '{ print $1 }' | tee "count-$LQ_JOB.txt"
