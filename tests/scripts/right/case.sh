#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set -euo pipefail
case "${1:-fast}" in
  fast) steps=10 ;;
  *) steps=100 ;;
esac
echo "$steps"
