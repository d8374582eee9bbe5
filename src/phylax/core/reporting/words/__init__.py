"""The texts of reports by language: one file each. English ships, German proves it."""
