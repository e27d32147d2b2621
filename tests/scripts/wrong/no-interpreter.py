# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
print("done")
