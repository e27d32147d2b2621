"""The core: values in, values out. No files, no processes, no clock, no network, no interface."""
