"""A worker's line to its agent: what it says, asks and is told."""

from __future__ import annotations

import os
import socket
import struct
import time
from base64 import b64decode
from collections.abc import Callable, Sequence
from typing import Any

from phylax.agent.machines import InUse
from phylax.agent.survey.places import Place
from phylax.agent.survey.task import Stopped
from phylax.agent.workers import jobs
from phylax.agent.workers.channel import LONGEST, receive, send
from phylax.core.ground.values import Demand, Value
from phylax.core.survey import SurveyLine

_PAIR = struct.Struct("<QQ")
_TELL_EVERY = 0.1


class AgentConnection:
    """The agent at the other end."""

    def __init__(self, end: socket.socket) -> None:
        self._end = end
        self._unsaid: dict[str, list[int]] = {}
        self._said = time.monotonic()

    def say(self, message: Value | Demand) -> None:
        send(self._end, message.model_dump_json().encode("utf-8", "replace"))

    def say_items(
        self, message: Callable[[tuple[Any, ...]], Demand], items: tuple[Any, ...]
    ) -> None:
        """Say something of many items, in as many messages as it takes."""
        text = message(items).model_dump_json().encode("utf-8", "replace")
        if len(text) <= LONGEST:
            send(self._end, text)
        elif len(items) > 1:
            middle = len(items) // 2
            self.say_items(message, items[:middle])
            self.say_items(message, items[middle:])

    def say_line(self, line: SurveyLine) -> None:
        """Say a line of a survey; where names in it are very long, with fewer of them."""
        while len(line.model_dump_json()) > LONGEST // 2 and (line.largest or line.unread):
            largest, unread = (part[: len(part) // 2] for part in (line.largest, line.unread))
            line = line.model_copy(update={"largest": largest, "unread": unread})
        self.say(jobs.Lines(lines=(line,)))

    def say_report(self, report: jobs.Report) -> None:
        """Say the last word; where it is too long, with fewer names."""
        while len(report.model_dump_json()) > LONGEST // 2 and (report.left or report.again):
            again = tuple(
                listing.model_copy(update={"items": listing.items[: len(listing.items) // 2]})
                for listing in report.again
            )
            left = report.left[: len(report.left) // 2]
            update = {"left": left, "again": again if left else ()}
            report = report.model_copy(update=update)
        self.say(report)

    def ask(self, message: Demand) -> jobs.Answer:
        self.say(message)
        text = receive(self._end)
        if text is None:
            raise Stopped
        return jobs.Answer.model_validate_json(text)

    def watch(self, category: str, items: int, size: int) -> None:
        """So much more is done. Raises Stopped where the agent says so."""
        sums = self._unsaid.setdefault(category, [0, 0])
        sums[0] += items
        sums[1] += size
        now = time.monotonic()
        if now - self._said < _TELL_EVERY:
            return
        self._said = now
        self.flush()

    def flush(self) -> None:
        unsaid, self._unsaid = self._unsaid, {}
        for category, (items, size) in unsaid.items():
            watched = jobs.Watched(category=category, items=items, size=max(size, 0))
            if not self.ask(watched).go_on:
                raise Stopped

    def in_use(self) -> InUse:
        answer = self.ask(jobs.InUseQuestion())
        pairs = b64decode(answer.files)
        return InUse(frozenset(_PAIR.iter_unpack(pairs)), frozenset(answer.programs))


class WorkersJournal:
    """The run's journal, which the agent keeps in its own folder."""

    def __init__(self, agent: AgentConnection, identity: str) -> None:
        self._agent = agent
        self.identity = identity
        self._went: dict[str, list[int]] = {}

    def about_to(
        self,
        category: str,
        place: Place,
        folder: str,
        names: Sequence[tuple[str, int | None]],
        note: tuple[Sequence[str], str] | None = None,
    ) -> None:
        if _is_text("/".join(name for name, _ in names)):
            as_sent = tuple(names)
        else:
            as_sent = tuple((sent(name), size) for name, size in names)
        about = jobs.About(
            category=category,
            root=sent(place.root),
            folders=tuple(map(sent, (*place.below, *(folder.split("/") if folder else ())))),
            names=as_sent,
            note=note and (tuple(map(sent, note[0])), sent(note[1])),
        )
        answer = self._agent.ask(about)
        if not answer.ok:
            raise OSError(answer.code, answer.why)

    def removed(self, category: str, size: int, count: int = 1) -> None:
        sums = self._went.setdefault(category, [0, 0])
        sums[0] += count
        sums[1] += size

    def batch_done(self) -> None:
        went, self._went = self._went, {}
        for category, (count, size) in went.items():
            self._agent.say(jobs.Removed(category=category, count=count, size=size))

    def removed_of(self, category: str) -> Any:
        raise NotImplementedError("the sums are the agent's")


def sent(name: str) -> str:
    """A name as it can be sent: bytes that are no UTF-8 in a form that nothing else looks like."""
    return name if _is_text(name) else "\0" + os.fsencode(name).hex()


def _is_text(name: str) -> bool:
    try:
        name.encode("utf-8")
    except UnicodeEncodeError:
        return False
    return True


def received(name: str) -> str:
    """The name behind what `sent` made."""
    return os.fsdecode(bytes.fromhex(name[1:])) if name.startswith("\0") else name
