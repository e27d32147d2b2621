#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory = "4 GiB"
# ///
set -euo pipefail
true
