"""How long names are kept."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from phylax.core.ground.values import Demand, Moment, Value

MONTH_DAYS = 30.4375
_Months = Annotated[int, Field(ge=1, le=240, examples=[24])]


class DataRetentionEdit(Demand):
    """Spans in months; figures are kept for good."""

    file_names_months: _Months = Field(24, description="Names of files that went or were left")
    notices_months: _Months = Field(24, description="Mails and messages that went out")
    staff_months: _Months | None = Field(
        None, description="Names of people, after they left the shop; left out: they stay"
    )


class DataRetention(Value):
    file_names_months: int = 24
    notices_months: int = 24
    staff_months: int | None = None
    swept_at: Moment | None = Field(None, description="When it was last dealt with")
    version: int = 1
