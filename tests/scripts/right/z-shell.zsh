#!/usr/bin/env zsh
# /// job
# walltime = "1h"
# memory   = "2 GiB/core"
# ///
setopt extended_glob
print -l **/*(.om[1,3])
