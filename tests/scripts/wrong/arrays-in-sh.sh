#!/bin/sh
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set -eu
names=(a b)
echo "${names[0]}"
