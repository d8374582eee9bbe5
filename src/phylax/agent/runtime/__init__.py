"""The agent as a process: its loop, one order after the other, sleep, commands."""
