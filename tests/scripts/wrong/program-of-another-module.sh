#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# modules = ["mpi/5.0"]
# ///
set -euo pipefail
surge --case north
