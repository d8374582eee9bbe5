"""When things are due: time zones, closing days, the agenda, calendar feeds."""
