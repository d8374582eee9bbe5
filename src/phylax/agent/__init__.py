"""What runs on a client's machine: the loop, the spool, the surveyor, the cleaner and its guard."""
