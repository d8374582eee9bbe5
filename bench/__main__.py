"""Runs every bench and prints its figures."""

from bench import (
    agents_load,
    console_machines,
    footprint,
    forecasts,
    forgetting,
    heavy_messages,
    long_work,
    reading_settings,
    record_shop,
    removal,
    rounds_shop,
    strangers,
    survey_full,
    trials,
    tuning_what_if,
    watch_shop,
    what_if_shop,
)

if __name__ == "__main__":
    survey_full.main()
    what_if_shop.main()
    rounds_shop.main()
    forecasts.main()
    watch_shop.main()
    agents_load.main()
    console_machines.main()
    removal.main()
    reading_settings.main()
    long_work.main()
    tuning_what_if.main()
    trials.main()
    strangers.main()
    heavy_messages.main()
    record_shop.main()
    forgetting.main()
    footprint.main()
