#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# account = "kelp-fit"
# ///
set -euo pipefail
true
