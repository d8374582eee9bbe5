"""When things are due."""
