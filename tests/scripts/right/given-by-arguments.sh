#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# arguments = ["north", "3"]
# ///
set -euo pipefail
case_name=$1
steps=$2
echo "$case_name $steps"
