#!/usr/bin/env bash
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set -euo pipefail
cat > "control-$LQ_JOB.txt" <<END
level ${1:-0.5}
run $LQ_NAME
END
