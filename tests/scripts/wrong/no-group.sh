#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# readable-by = "no-such-group"
# ///
set -euo pipefail
date
