#!/usr/bin/env bash
# /// job
# walltime = "90"
# memory = "2 GiB/core"
# ///
set -euo pipefail
true
