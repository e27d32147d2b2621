#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set -euo pipefail
log() {
  local what=$1
  echo "$(date) $what"
}
log start
