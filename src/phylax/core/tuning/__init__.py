"""Tune-up: settings as data, startup programs, rules, verdicts, trials."""
