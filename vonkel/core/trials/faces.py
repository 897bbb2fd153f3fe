"""Trials of a face: blinks at three closing lines, gazes to nine places, the jaw open and aside, the corners of the mouth pad."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..character import Character, Control, Ref
from ..character.boards import ACROSS, UP
from ..character.refs import Inputs
from ..errors import VonkelError
from ..expression.lids import Lids, lid_figures
from ..expression.making import PAD
from ..face.marks import face_of
from ..rig import Pose, compile_rig
from .measure import Lidded

LINES = (0.2, 0.5, 0.8)
GAZE = np.radians(30)


@dataclass(frozen=True)
class FaceTrial:
    """name, what it is, what the controls are set to, and whether the lids should meet."""

    name: str
    about: str
    inputs: Inputs
    shut: bool = False


def face_trials(character: Character) -> list[FaceTrial]:
    """Every trial that the face's controls can take; none of a character without such controls."""
    return [*_blinks(character), *_gazes(character), *_jaws(character), *_pad(character)]


def face_pose(character: Character, trial: FaceTrial) -> Pose:
    return compile_rig(character).evaluate(trial.inputs)


def _controls(character: Character, kind: str) -> list[Control]:
    kits = {k.name for k in character.kits if k.kind == kind}
    return [c for c in character.controls if c.kit in kits]


def _blinks(character: Character) -> list[FaceTrial]:
    lids = _controls(character, "lids")
    if not lids:
        return []
    out = []
    for line in LINES:
        inputs = {c.name: {"blink": 1.0, "line": line} for c in lids}
        out.append(FaceTrial(f"blink, lids meet at {line:.1f}", "both eyes shut", inputs, True))
    out.append(FaceTrial("eyes half shut", "both eyes half shut", {c.name: {"blink": 0.5} for c in lids}))
    out.append(FaceTrial("eyes wide", "both eyes wide open", {c.name: {"upper": -1.0, "lower": -1.0} for c in lids}))
    return out


ASIDE = {
    (x, y): " ".join(w for w in (("down", "", "up")[y + 1], ("right", "", "left")[x + 1]) if w)
    for y in (1, 0, -1) for x in (-1, 0, 1) if x or y
}  # fmt: skip
"""The eight places beside straight ahead, which is the face at rest."""


def _gazes(character: Character) -> list[FaceTrial]:
    out = []
    if not _controls(character, "lids"):
        return []
    for aim in _controls(character, "eyes")[:1]:
        kit = next(k for k in character.kits if k.name == aim.kit)
        eyes = np.mean([character.joint(n).place for n in kit.joints["eyes"]], axis=0)
        far = float(np.linalg.norm(np.array(aim.place) - eyes)) * float(np.tan(GAZE))
        for (x, y), words in ASIDE.items():
            inputs = {aim.name: {"move x": x * far, "move y": y * far}}
            out.append(FaceTrial(f"looking {words}", "both eyes turned as far as they should", inputs))
    return out


def _jaws(character: Character) -> list[FaceTrial]:
    out = []
    for jaw in _controls(character, "jaw")[:1]:
        for name, about, channels in (
            ("jaw open", "the jaw wholly open", {"open": 1.0}), ("jaw aside", "the jaw open and to its left", {"open": 0.4, "side": 1.0}),
            ("jaw forward", "the jaw slid forward", {"slide": 1.0}), ("lips sealed", "the jaw half open, lips sealed", {"open": 0.5, "seal": 1.0}),
        ):  # fmt: skip
            out.append(FaceTrial(name, about, {jaw.name: channels}))
    return out


def _pad(character: Character) -> list[FaceTrial]:
    if not any(b.name == PAD for b in character.boards):
        return []
    corners = {
        (-1, 1): "narrow and open",
        (1, 1): "wide and open",
        (-1, -1): "narrow and shut",
        (1, -1): "wide and shut",
    }
    return [
        FaceTrial(
            f"mouth {words}", "a corner of the mouth pad", {str(Ref.board(PAD)): {ACROSS: float(x), UP: float(y)}}
        )
        for (x, y), words in corners.items()
    ]


class LidLook:
    """Looks at posed lids: the gap that is left where they should meet, and eyeballs that come through."""

    def __init__(self, character: Character) -> None:
        self.lids: list[Lids] = []
        try:
            face = face_of(character) if any(k.kind == "lids" for k in character.kits) else None
        except VonkelError:
            face = None  # a head that can't be read any more has no lids to look at
        self.head = face.head if face is not None else None
        for eye in face.eyes if face is not None else ():
            if eye.opens:
                self.lids.append(Lids(face.head, eye))  # type: ignore[union-attr]

    def look(self, points: np.ndarray, shut: bool) -> Lidded | None:
        """Figures of posed points (n, 3) of a head that stands where it rests."""
        if self.head is None or not self.lids:
            return None
        head = self.head
        moves = head.own(points[head.first]) - head.p
        worst = Lidded()
        for lids in self.lids:
            f = lid_figures(lids, moves)
            assert lids.eye.upper is not None
            at = int(head.first[lids.eye.upper[len(lids.eye.upper) // 2]])
            if shut and f.most > worst.gap:
                worst = replace(worst, gap=f.most, gap_point=at)
            if f.pierced > worst.pierced:
                worst = replace(worst, pierced=f.pierced, pierced_point=at)
        return worst
