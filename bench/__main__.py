"""Runs every bench and prints its figures."""

from bench import agents_load, footprint, removal, rounds_shop, survey_full, what_if_shop

if __name__ == "__main__":
    survey_full.main()
    what_if_shop.main()
    rounds_shop.main()
    agents_load.main()
    removal.main()
    footprint.main()
