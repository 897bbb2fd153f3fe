"""Findings of the Face station: a mouth that can't open, eyes without an opening, marks that want a look or have moved."""

from __future__ import annotations

from collections.abc import Iterator

from ...core.character import Character
from ...core.errors import VonkelError
from ...core.face.marks import DOUBTFUL, face_of, kind_of
from .kinds import Finding, Mend, counted
from .rigging import face_findings as eye_findings

SIDES = {"L": "left", "R": "right"}


def face_findings(c: Character) -> Iterator[Finding]:
    yield from eye_findings(c)
    if c.face is None or not c.face.marks:
        return
    try:
        face = face_of(c)
    except VonkelError as error:
        yield Finding(station="face", level="must", title="The face can't be read any more", detail=error.what)
        return
    if face.mouth.kind != "open" and c.face.mark("mouth_upper"):
        yield Finding(
            station="face", level="should", title="The mouth is only a line in the skin",
            detail="It can't open. A cut follows its marks from corner to corner, with a bag behind the lips; put the marks right first.",
            mend=Mend(label="Cut it open", step="face.cut_mouth"),
        )  # fmt: skip
    if not any(len(eye.points) for eye in face.eyes) and c.face.mark("eye_L"):
        yield Finding(
            station="face", level="note", title="The head has no eyes of its own",
            detail="No part and no piece of it is an eyeball. Plain ones with two lids each can be built where the marks are.",
            mend=Mend(label="Build plain eyes", step="face.build_eyes"),
        )  # fmt: skip
    for eye in face.eyes:
        if not eye.opens and not eye.shelled:
            yield Finding(
                station="face", level="note", title=f"The {SIDES[eye.side]} eye has no opening that lids could shut",
                detail="No edge of lids goes round it on the mesh. Put its corners and lids on the edge that is there.",
            )  # fmt: skip
    doubtful = [m for m in c.face.marks if m.sure < DOUBTFUL]
    if doubtful:
        words = ", ".join(dict.fromkeys(kind_of(m.name).label for m in doubtful))
        yield Finding(
            station="face", level="note", title=counted(len(doubtful), "mark of the face wants a look", "marks of the face want a look"),
            detail=f"The head's shape didn't tell them surely: {words}.",
            mend=Mend(label="They are right", step="face.accept", params={"marks": [m.name for m in doubtful]}),
        )  # fmt: skip
    if c.face.stale:
        yield Finding(
            station="face", level="should", title="Marks have moved since the face was made",
            detail="Make it again: what was sculpted or painted since stays.",
        )  # fmt: skip
