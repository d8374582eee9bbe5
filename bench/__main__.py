"""Runs every bench and prints its figures."""

from bench import survey_small_files

if __name__ == "__main__":
    survey_small_files.main()
