#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# scratch = "10 GiB"
# ///
set -euo pipefail
date
