"""The computation: values in, values out. No files, no network, no clock, no framework."""
