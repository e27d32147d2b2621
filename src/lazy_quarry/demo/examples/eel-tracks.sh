#!/usr/bin/env bash
# /// job
# name     = "eel-tracks"
# queue    = "tidal"
# walltime = "1h"
# threads  = 8
# memory   = "2 GiB/core"
# output   = "logs/{name}-{job}.txt"
# modules  = ["tracks/1.3"]
# scratch  = "20 GiB"
# ///
# Joins the season's tags into tracks: one program, many threads, temporary files on the node.
set -euo pipefail
tracks --threads "$LQ_THREADS" --tmp "$LQ_SCRATCH" --season 2026 --to "tracks-$LQ_JOB.csv"
