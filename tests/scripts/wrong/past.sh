#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# not-before = 2020-01-01T00:00:00Z
# ///
set -euo pipefail
date
