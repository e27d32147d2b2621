"""What checks need to know about files, programs, modules and this machine, as values."""
