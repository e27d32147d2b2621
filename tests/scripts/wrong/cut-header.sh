#!/bin/sh
# /// job
#walltime = "1h"
# ///
true
