"""What every part of a character's structure is made of."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

Number = Annotated[float, Field(allow_inf_nan=False)]
NAME_LENGTH = 80
Name = Annotated[str, Field(min_length=1, max_length=NAME_LENGTH, pattern=r"^[^\x00-\x1f\x7f/\\]+$")]


class Frozen(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")
