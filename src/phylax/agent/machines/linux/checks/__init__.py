"""Checks of a Linux machine, by the kernel's own counters and the tools of each file system."""
