#!/usr/bin/env -S Rscript --vanilla
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# prepare = ["true"]
# ///
print(Sys.getenv("LQ_JOB"))
