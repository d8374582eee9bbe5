"""Runs from their making to their end: queue, dispatch, what agents report, checklists."""
