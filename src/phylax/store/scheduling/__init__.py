"""Rounds, routines, calendars, and when machines are on."""
