"""What a worker says of how far it is, told on."""

from __future__ import annotations

from phylax.agent.survey.task import Stopped, Watcher
from phylax.agent.workers import jobs


def watched(message: jobs.Watched, watch: Watcher, stop: list[Stopped]) -> jobs.Answer:
    try:
        if not stop:
            watch(message.category, message.items, message.size)
    except Stopped as stopped:
        stop.append(stopped)
    return jobs.Answer(go_on=not stop)
