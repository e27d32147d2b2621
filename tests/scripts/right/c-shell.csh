#!/usr/bin/env csh
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
set x = 3
if ($x == 3) then
  echo three
endif
