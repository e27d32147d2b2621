#!/usr/bin/env python3
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///

# /// script
# dependencies = []
# ///
import os

print(os.environ["LQ_JOB"])
