"""What is measured, against a named yardstick in the same run. Run all with `python -m bench`."""
