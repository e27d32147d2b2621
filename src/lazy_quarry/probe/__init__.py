"""What checks need to know from outside, brought in as values: files, programs, modules, this machine."""
