"""Runs every bench and prints its figures."""

from bench import footprint, removal, survey_full, what_if_shop

if __name__ == "__main__":
    survey_full.main()
    what_if_shop.main()
    removal.main()
    footprint.main()
