"""Startup programs on a Windows machine, and what switches it.

Read from where the system itself keeps it: the Run keys of the machine (in both views) and of who
is signed in, start-up folders, services. Entries are switched by the start-up marks that the
system's own pages set; these are observed, not documented: bit 0 of the first byte says off, no
value on. Services are switched by the service manager.
"""
