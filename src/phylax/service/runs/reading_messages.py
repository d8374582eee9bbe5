"""Reading agents' messages from their bytes, so that one machine's heavy message keeps nobody else
waiting: a large one is read piece by piece, and between two pieces others have their turn.

What is read in one step keeps the whole process from anything else meanwhile.
"""

from __future__ import annotations

from typing import Any, NamedTuple

from pydantic import TypeAdapter, ValidationError
from pydantic_core import InitErrorDetails, from_json

from phylax.core.checks.findings import Checked
from phylax.core.protocol import CategoryOutcome, Message, SurveyMessage
from phylax.core.survey import Ledger, Survey, SurveyLine, ledger
from phylax.core.survey.what_if import packed
from phylax.core.tuning.programs import Program
from phylax.service.limits.backoff import give_way
from phylax.store.survey.profiles import PackedLine
from phylax.store.survey.surveys import lines_as_json

MESSAGE: TypeAdapter[Message] = TypeAdapter(Message)
_IN_ONE_STEP = 1 << 20
"""Bytes that are read in some hundredths of a second."""
_PIECES: dict[str, tuple[tuple[str, ...], type[Any]]] = {
    "survey": (("lines",), SurveyLine),
    "survey part": (("lines",), SurveyLine),
    "settings": (("look", "programs"), Program),
    "checked": (("checked",), Checked),
    "result": (("outcomes",), CategoryOutcome),
}
"""By kind: where a message has many parts, and of what kind."""


def read(body: bytes) -> Message:
    """A message. ValidationError where it is none."""
    if len(body) < _IN_ONE_STEP:
        return MESSAGE.validate_json(body)
    try:
        said = from_json(body)
    except ValueError:
        return MESSAGE.validate_json(body)
    if not isinstance(said, dict):
        return MESSAGE.validate_json(body)
    if pieces := _PIECES.get(str(said.get("kind"))):
        _read_pieces(said, *pieces)
    return MESSAGE.validate_python(said)


def _read_pieces(said: dict[str, Any], path: tuple[str, ...], kind: type[Any]) -> None:
    """Each part of a message as what it is, in its place."""
    *folders, name = path
    holder: Any = said
    for folder in folders:
        holder = holder.get(folder) if isinstance(holder, dict) else None
    parts = holder.get(name) if isinstance(holder, dict) else None
    if not isinstance(parts, list):
        return
    for place, part in enumerate(parts):
        give_way()
        try:
            parts[place] = kind.model_validate(part)
        except ValidationError as error:
            where: tuple[str | int, ...] = (str(said["kind"]), *path, place)
            raise ValidationError.from_exception_data(
                error.title, [_at(detail, where) for detail in error.errors()], input_type="json"
            ) from None


def _at(detail: Any, where: tuple[str | int, ...]) -> InitErrorDetails:
    moved = InitErrorDetails(
        type=detail["type"], loc=(*where, *detail["loc"]), input=detail.get("input")
    )
    if "ctx" in detail:
        moved["ctx"] = detail["ctx"]
    return moved


class Prepared(NamedTuple):
    """What of a survey is worked out before anybody has to wait for its writing."""

    lines_json: str
    packed_lines: tuple[PackedLine, ...]
    summed: Ledger
    """Without the survey's number, which it gets with its writing."""


def prepared(message: SurveyMessage) -> Prepared:
    """To be done where nobody waits for the file."""
    packed_lines = []
    for line in message.lines:
        give_way()
        packed_lines.append((line, *packed(line)))
    survey = Survey(
        id=0, machine_id=0, run_id=message.run_id, kind=message.survey_kind,
        started_at=message.started_at, ended_at=message.ended_at, lines=message.lines,
    )  # fmt: skip
    return Prepared(lines_as_json(message.lines), tuple(packed_lines), ledger(survey))
