#!/usr/bin/env python3
# /// job
# name     = "eel-drift"
# account  = "eel-tracks"
# threads  = 8
# memory   = "1500 MiB/core"
# walltime = "40m"
# modules  = ["python/3.12"]
#
# [rehearsal]
# runtime  = "12m..25m"
# busy     = 6.5
# ///
"""Where eels drift to on an ebb tide."""

import os

threads = int(os.environ["LQ_THREADS"])
print(f"drifting with {threads} threads")
