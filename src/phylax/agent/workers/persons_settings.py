"""A worker's side of settings: one person's, with their rights."""

from __future__ import annotations

import errno

from phylax.agent.machines.linux.checks.browsers import browsers
from phylax.agent.machines.linux.person import LinuxPerson
from phylax.agent.workers import jobs
from phylax.agent.workers.connection import AgentConnection
from phylax.core.checks.findings import MOST_FINDINGS

_PAGE = 50


class PersonsSettings:
    """What is read and written of one person's settings."""

    def __init__(self, machine: LinuxPerson, agent: AgentConnection) -> None:
        self._machine = machine
        self._agent = agent

    def work(self, job: jobs.SettingsJob | jobs.SwitchJob | jobs.ValueJob | jobs.PieceJob) -> None:
        """Do one job, and say what became of it; what the system refuses is said with its code."""
        report = jobs.Report()
        try:
            match job:
                case jobs.SettingsJob(what="starters"):
                    starters = tuple(self._machine.starters())
                    for at in range(0, len(starters), _PAGE):
                        page = starters[at : at + _PAGE]
                        self._agent.say_items(
                            lambda items: jobs.StartersReport(starters=items), page
                        )
                case jobs.SettingsJob(what="browsers"):
                    findings = tuple(browsers(self._machine.home))[:MOST_FINDINGS]
                    self._agent.say_items(
                        lambda items: jobs.FindingsReport(findings=items), findings
                    )
                case jobs.SettingsJob():
                    self._agent.say(jobs.ValuesReport(values=tuple(self._machine.values())))
                case jobs.SwitchJob():
                    pieces = self._machine.pieces_of(job.plan)
                    self._agent.say_items(lambda items: jobs.PiecesReport(pieces=items), pieces)
                case jobs.ValueJob():
                    of = job.around.person.name
                    pieces = self._machine.value_pieces(job.setting, of, job.value)
                    self._agent.say_items(lambda items: jobs.PiecesReport(pieces=items), pieces)
                case jobs.PieceJob():
                    self._handle(job)
        except OSError as failure:
            why = failure.strerror or str(failure)
            code = failure.errno if failure.errno and 0 < failure.errno <= 4096 else errno.EIO
            report = jobs.Report(problems=(why[:500],), code=code)
        self._agent.say(report)

    def _handle(self, job: jobs.PieceJob) -> None:
        hands = self._machine.hands()
        match job.do:
            case "read":
                self._agent.say(jobs.StateReport(state=hands.read(job.piece)))
            case "write":
                assert job.state is not None
                hands.write(job.piece, job.state)
            case "sweep":
                hands.sweep(job.piece)
