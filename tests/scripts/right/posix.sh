#!/bin/sh
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set -eu
name=$(basename "$0")
printf '%s\n' "$name"
