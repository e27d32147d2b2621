#!/usr/bin/env bash
# /// job
# ///
set -euo pipefail
true
