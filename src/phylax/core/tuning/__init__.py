"""Tune-up: settings as data, what runs by itself, rules, verdicts, trials."""
