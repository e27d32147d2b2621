# /// job
# walltime = "9d"
# memory   = "2 GiB/core"
# memroy-per-core = 3
# ///
set -euo pipefail
surge --out results/a.nc > logs/a.txt
echo "$UNSET"
