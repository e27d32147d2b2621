#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# at-overtime = "again"
# warn = "10m"
# ///
set -euo pipefail
trap 'touch "stop-$LQ_JOB"' USR1
state="state-$LQ_JOB"
[ -e "$state" ] || echo 0 > "$state"
step=$(cat "$state")
until [ -e "stop-$LQ_JOB" ] || [ "$step" -ge 1000 ]; do
  step=$((step + 1))
  echo "$step" > "$state"
done
