"""A root agent's work on one person's home, through that person's worker; run in a process of its
own by the benches: `python -m bench.people HOME OWN WHAT`.

Prints seconds from the order to its end, how many things it was about, the peak of memory of the
agent and that of its workers (KiB), and how many items were listed.
"""

from __future__ import annotations

import sys
import threading
import time
from contextlib import suppress
from datetime import timedelta
from pathlib import Path

import psutil

from phylax.agent.account.run_journal import RunJournal
from phylax.agent.cleaning.task import CleaningPass
from phylax.agent.config.guard import Guard, GuardRules
from phylax.agent.hold.hold import Hold
from phylax.agent.hold.index import HoldIndex
from phylax.agent.machines.linux.system import LinuxSystem
from phylax.agent.outbox.spool import Spool
from phylax.agent.survey.task import SurveyListener, SurveyTask
from phylax.agent.workers.people import CrewWithWorkers
from phylax.agent.workers.supervisor import ForkServer
from phylax.core.catalogue import catalogue
from phylax.core.hold.holds import BatchPick
from phylax.core.protocol import CategoryRule, HeldOrder, SurveyOrder
from phylax.core.protocol.trusted_time import by_clock_alone
from phylax.core.retention import Rule, Scope, in_force

PERSON = 3001
"""A user number that no account has."""


def main() -> None:
    home, own, what = sys.argv[1:]
    fork_server = ForkServer()
    machine, rules = LinuxSystem([home]), GuardRules(hold_at_most_percent=50)
    hold = Hold(machine, own, at_most_percent=50)
    folders = [own, *hold.possible()]
    guard, spool = Guard(machine, folders, rules), Spool(Path(own, "spool"))
    index = HoldIndex(Path(own, "held-index"))
    crew = CrewWithWorkers(machine, guard, hold, fork_server, index, rules, folders)
    # ages count from the newest time known, which no program can set: what was laid out just now
    # is ten days old by this clock
    now = by_clock_alone(time.time() + 10 * 86400)
    watched, listed = [0], [0]

    def watch(category: str, items: int, size: int) -> None:
        watched[0] += items

    def listing(category: str, item: object) -> None:
        listed[0] += 1

    peaks, watching = [0], threading.Event()
    threading.Thread(target=_watch_workers, args=(watching, peaks), daemon=True).start()
    # an agent is long at work when an order comes
    fork_server.is_ready()
    began = time.perf_counter()
    if what == "look":
        rules = tuple(
            CategoryRule(category=key, rule=in_force([(Scope.CATALOGUE, kind.rule)]))
            for key, kind in catalogue().items()
        )
        lines = [
            line
            for party in crew.parties()
            for line in party.look(SurveyTask(rules, now), SurveyListener(watch, listing))
        ]
        count = sum(line.total.count for line in lines)
    else:
        order = SurveyOrder(run_id=1, lease="l", look=())
        journal = RunJournal.begin(Path(own, f"{what}.jsonl"), order, "now", [])
        if what == "put back":
            picks = tuple(BatchPick(batch=entry.batch) for entry in index.entries())
            held = HeldOrder(kind="put back", run_id=2, lease="l", picks=picks)
            did = crew.held_work(spool, held, journal, watch)
            count = sum(outcome.put_back.count for outcome in did["outcomes"])
        else:
            key = "downloads" if what == "aside" else "user-temp"
            said = Rule(off=False, keep_for=timedelta(days=1))
            if what == "hold":
                said = said.model_copy(update={"hold_for": timedelta(days=3)})
            rule = in_force([(Scope.CATALOGUE, catalogue()[key].rule), (Scope.SHOP, said)])
            task = CleaningPass(
                run_id=1,
                keys=(key,),
                rules=(CategoryRule(category=key, rule=rule),),
                now=now,
                standing=(key,),
            )
            for party in crew.parties():
                report = party.clean(task, journal, watch)
                assert not report.problems, report.problems
            count = journal.removed_of(key).count + crew.held_of(journal.identity, key).count
    took = time.perf_counter() - began
    fork_server.close()
    watching.set()
    print(took, count, _peak("self"), max(peaks), listed[0])


def _peak(process: str) -> int:
    """The most that a process ever had in memory, KiB: its own, while what getrusage(2) tells is
    at least what the process had that started it."""
    with open(f"/proc/{process}/status", encoding="ascii") as lines:
        return int(next(line.split()[1] for line in lines if line.startswith("VmHWM:")))


def _watch_workers(ended: threading.Event, peaks: list[int]) -> None:
    """Note the peaks of all that was started from here, for they are gone afterwards."""
    me = psutil.Process()
    while not ended.wait(0.02):
        for process in me.children(recursive=True):
            with suppress(OSError, StopIteration, psutil.Error):
                peaks.append(_peak(str(process.pid)))


if __name__ == "__main__":
    main()
