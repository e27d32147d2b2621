#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set -euo pipefail
date > logs/when.txt
date >> logs/again.txt
mkdir made
date > made/when.txt
