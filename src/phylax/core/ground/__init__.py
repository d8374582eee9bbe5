"""Types that everybody stands on: values, text, names, sizes, readings of volumes, chains."""
