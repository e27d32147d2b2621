#!/usr/bin/env bash
# /// job
# walltime = "9d"
# memory = "1 GiB/core"
# ///
set -euo pipefail
true
