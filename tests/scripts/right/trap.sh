#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# warn = "5m"
# ///
set -euo pipefail
save() {
  date > "saved-$LQ_JOB"
}
trap save USR1
sleep 100 &
wait
