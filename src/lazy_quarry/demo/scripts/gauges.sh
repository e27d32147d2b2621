#!/usr/bin/env bash
# /// job
# name     = "tide-gauges"
# account  = "tide-surge"
# ranks    = 1
# memory   = "2 GiB/core"
# walltime = "20m"
# ///
set -euo pipefail
for gauge in lock ferry weir mouth; do
    echo "reading $gauge"
    python3 read_gauge.py "$gauge" > "gauge-$gauge.csv"
done
