"""Startup programs on a Linux machine, and what switches it.

Read from the files themselves: entries of the autostart folders (Desktop Application Autostart
Specification), units (systemd.unit(5)), names on the message bus (D-Bus Specification, message bus
starting services), packages (Debian Policy 5).
"""
