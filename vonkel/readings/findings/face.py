"""Findings of the Face station: a mouth that can't open, eyes without an opening, marks that want a look or have moved."""

from __future__ import annotations

from collections.abc import Iterator

from ...core.character import Character
from ...core.errors import VonkelError
from ...core.face.estimate import Estimate
from ...core.face.marks import DOUBTFUL, face_of, kind_of
from ..face import checked_head, pierced_at_rest
from .kinds import Finding, Mend, counted, some
from .rigging import face_findings as eye_findings

SIDES = {"L": "left", "R": "right"}
POSED = 8.0  # degrees: a head that is turned or leans by more was posed
THROUGH = 0.03  # of the radius: an eyeball that stands so far out of its lid at rest
CUTS = 0.02  # of an opening: an eyeball that lies in its edge along so much
SHOWN = 0.02  # of the points of teeth or a tongue: fewer may be seen between the lips


def _of_the_head(c: Character, face: Estimate) -> Iterator[Finding]:
    """What would spoil the face, before it is made."""
    check = checked_head(c)
    aside = [
        (check.turned, f"turned by {abs(check.turned):.0f}° to its {'left' if check.turned > 0 else 'right'}"),
        (check.leant, f"leant by {abs(check.leant):.0f}° to its {'left' if check.leant > 0 else 'right'}"),
    ]
    words = " and ".join(w for by, w in aside if abs(by) > POSED)
    if words:
        alone = c.plan == "head" or not c.joints
        yield Finding(
            station="face", level="note", title=f"The head is {words}",
            detail="Its face is read and made in its own frame, so marks still go in pairs. Animators expect it straight: "
            + ("turn it." if alone else "set it straight with its control, and take that pose as the new rest."),
            mend=Mend(label="Turn it straight", step="model.stand", params={"turn": -check.turned})
            if alone and abs(check.turned) > POSED else None,
        )  # fmt: skip
    for k, hole in enumerate(check.holes[:3]):
        yield Finding(
            station="face", level="should" if k == 0 else "note", title=f"The head's skin is open along {len(hole)} points",
            detail="Lids, lips and light are judged by what the skin covers; where it is open they may be misread.",
            points=some(hole),
        )  # fmt: skip
    for role, (points, share) in check.shown.items():
        if share > SHOWN:
            yield Finding(
                station="face", level="should", title=f"{100 * share:.0f} % of the {role} shows through shut lips",
                detail="At rest lips should hide it, or the jaw was modelled open. Where it stands is marked.", points=some(points),
            )  # fmt: skip
    for side, depth in pierced_at_rest(c).items():
        share = check.cuts.get(side, 0.0)
        if depth > THROUGH or share > CUTS:
            yield Finding(
                station="face", level="should", title=f"The {SIDES[side]} eyeball comes through its lids",
                detail=f"At rest it touches them along {100 * share:.0f} % of its opening and stands {100 * depth:.0f} % of its radius "
                "out of what should cover it. Set it further back in the model.",
            )  # fmt: skip


def face_findings(c: Character) -> Iterator[Finding]:
    yield from eye_findings(c)
    if c.face is None or not c.face.marks:
        return
    try:
        face = face_of(c)
    except VonkelError as error:
        yield Finding(station="face", level="must", title="The face can't be read any more", detail=error.what)
        return
    yield from _of_the_head(c, face)
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
