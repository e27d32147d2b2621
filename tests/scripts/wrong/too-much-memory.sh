#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory = "200 GiB/node"
# ///
set -euo pipefail
true
