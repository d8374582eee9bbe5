"""When work is due: recurrence, routines, rounds, their times, windows and the agenda."""
