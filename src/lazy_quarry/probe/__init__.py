"""Facts that checks need about files, programs, modules and this machine, as values."""
