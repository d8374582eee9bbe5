"""Changing settings on a machine so that each change goes back exactly."""
