#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
#
# [array.sweep]
# a = [1, 2]
# b = [1, 2, 3]
# together = [["a", "b"]]
# ///
set -euo pipefail
echo "$a $b"
