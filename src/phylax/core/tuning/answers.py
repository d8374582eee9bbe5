"""Answers: what a client said, once, to what decides about a group of settings."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from phylax.core.ground.values import Demand, Moment, Value
from phylax.core.tuning.setting import Question


class AnswerEdit(Demand):
    """An answer, or that there is none any more."""

    answer: Literal["yes", "no"] | None = Field(
        None, description="Left out: there is no answer any more"
    )
    comment: Annotated[str, Field(max_length=400)] = Field("", description="As the client put it")


class Answer(Value):
    """What was answered, by whom it was written down, and for whom it counts."""

    question: str
    answer: Literal["yes", "no"]
    scope: Literal["client", "machine"]
    comment: str = ""
    who: str
    at: Moment


class AnsweredQuestion(Value):
    """A question with its answer; none: nothing that hangs on it is changed."""

    question: Question
    answer: Answer | None = None
