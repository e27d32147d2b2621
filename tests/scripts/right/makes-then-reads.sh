#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set -euo pipefail
mkdir -p work
date > work/now.txt
wc -c work/now.txt
