"""Moves the clock of every Python process that starts with this folder on its path to the moment in
PHYLAX_TEST_DAY, from where it goes on. Running time stays as it is. For tools/dates.py."""

import os
from datetime import datetime

if "PHYLAX_TEST_DAY" in os.environ:
    import time_machine

    time_machine.travel(datetime.fromisoformat(os.environ["PHYLAX_TEST_DAY"]), tick=True).start()
