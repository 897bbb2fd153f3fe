"""Which kits a skeleton calls for, by what its joints are."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from ..character import Character, Joint, Kit, without_side
from ..character.words import DIGITS, EYE_JOINTS
from ..joints.names import split_name
from .fitting import chain_below, driven_joints
from .kits import PROVIDED

Joints = dict[str, tuple[str, ...]]
LIMB_ROLES = (("arm", ("upper_arm", "forearm", "hand")), ("leg", ("thigh", "shin", "foot")))


@dataclass(frozen=True)
class KitPlan:
    kind: str
    name: str
    joints: dict[str, tuple[str, ...]]
    options: dict[str, float | int | str | bool] = field(default_factory=dict)


class _Wardrobe:
    """Finds kits for joints that no kit moves yet."""

    def __init__(self, character: Character) -> None:
        self.c = character
        self.driven = set(driven_joints(character))
        self.legs: list[tuple[str, str]] = []  # (kit's name, the joint its target holds)
        self.whole = any(x.name == "whole" for x in character.controls)

    def free(self, joint: Joint) -> bool:
        return joint.name not in self.driven and joint.deforms

    def named(self, prefix: str) -> tuple[str, ...]:
        return tuple(j.name for j in self.c.joints if j.role.startswith(prefix) and j.side == "C" and self.free(j))

    def take(self, kind: str, name: str, joints: dict[str, tuple[str, ...]], leans: tuple[str, ...] = ()) -> KitPlan:
        self.driven.update(n for role, names in joints.items() if role not in leans for n in names)
        return KitPlan(kind, name, {r: n for r, n in joints.items() if n})

    # -- one kind after the other --------------------------------------------------------------------------------
    def trunk(self) -> Iterator[KitPlan]:
        hips = self.c.joint_with_role("hips")
        spine = self.named("spine") + self.named("chest")
        if hips and spine and self.free(hips):
            self.whole = True
            yield self.take("body", "body", {"hips": (hips.name,), "spine": spine})
        elif not self.whole:
            self.whole = True
            yield self.take("whole", "whole", {})
            if hips and self.free(hips):
                yield self.take("single", "body", {"joint": (hips.name,)})
        heads = [n for n in self.named("head") if self.c.joint(n).role == "head"]
        if heads:
            yield self.take("head", "head", {"neck": self.named("neck"), "head": (heads[0],)})

    def wings(self) -> Iterator[KitPlan]:
        for upper in [j for j in self.c.joints if j.role == "upper_arm" and self.free(j)]:
            middle = self._child(upper, "forearm")
            end = self._child(middle, "hand") if middle else None
            if not middle or not end:
                continue
            fingers = [k for k in self.c.children.get(end.name, ()) if k.role.startswith("wing") and self.free(k)]
            hung = [
                k.name for bone in (upper, middle, end) for k in self.c.children.get(bone.name, ())
                if k.role.startswith(("membrane", "feather")) and self.free(k)
            ]  # fmt: skip
            if not fingers and not hung:
                continue
            joints: Joints = {"upper": (upper.name,), "middle": (middle.name,), "end": (end.name,)}
            joints |= {f"finger {i + 1}": chain_below(self.c, k.name) for i, k in enumerate(fingers[:6])}
            yield self.take("wing", f"wing_{upper.side}", {**joints, "hung": tuple(hung)})

    def limbs(self) -> Iterator[KitPlan]:
        for kind, roles in LIMB_ROLES:
            for first in [j for j in self.c.joints if j.role == roles[0] and self.free(j)]:
                middle = self._child(first, roles[1])
                end = self._child(middle, roles[2], free=False) if middle else None
                if not middle or not end or end.name in self.driven:
                    continue
                between: tuple[str, ...] = (middle.name,)
                ball = next((k for k in self.c.children.get(end.name, ()) if "ball" in k.role and self.free(k)), None)
                paw = bool(ball and self._hock(first, end, ball))
                if ball and paw:
                    between, end, ball = (middle.name, end.name), ball, None
                only = sum(j.role == roles[0] and j.side == first.side for j in self.c.joints) == 1
                name = f"{kind}_{first.side}" if only else first.name.replace(roles[0], kind)
                above = self.c.joint(first.parent) if first.parent else None
                collar = (above.name,) if above and above.role == "collar" and self.free(above) else ()
                joints: Joints = {"upper": (first.name,), "middle": between, "end": (end.name,), "collar": collar}
                self.legs.append((name, end.name))
                yield self.take(kind, name, joints)
                if ball or paw:
                    roll: Joints = {"foot": (end.name,), "ball": (ball.name,) if ball else ()}
                    yield self.take("foot", name.replace(kind, "foot", 1), roll, leans=("foot",))

    def _hock(self, first: Joint, foot: Joint, ball: Joint) -> bool:
        """Whether the foot stands on its toes: its bone is steep and long enough to be a third one of the leg."""
        whole = np.array(first.place) - np.array(ball.place)
        bone = np.array(foot.place) - np.array(ball.place)
        steep = bone[1] > 0.55 * np.linalg.norm(bone)
        return bool(steep and np.linalg.norm(bone) > 0.14 * np.linalg.norm(whole))

    def digits(self, skip: tuple[str, ...]) -> Iterator[KitPlan]:
        """Several chains on one joint are digits of a hand or foot; on a fin or tail they are rays."""
        for holder in self.c.joints:
            firsts = [
                k for k in self.c.children.get(holder.name, ())
                if self.free(k) and k.role not in EYE_JOINTS and not k.role.startswith(skip or ("\0",))
            ]  # fmt: skip
            sided = [k for k in firsts if k.side == holder.side]
            if len(sided) < 2 or holder.side == "C" or holder.role in ("chest", "hips"):
                continue
            thumb = [k for k in sided if k.role.startswith("thumb")]
            rest = [k for k in sided if k not in thumb][:8]
            joints: Joints = {"thumb": chain_below(self.c, thumb[0].name, 6)} if thumb else {}
            joints |= {f"digit {i + 1}": chain_below(self.c, k.name, 6) for i, k in enumerate(rest)}
            word = "toes" if "foot" in holder.role or "ball" in holder.role else "fingers"
            only = sum(j.role == holder.role and j.side == holder.side for j in self.c.joints) == 1
            name = f"{word}_{holder.side}" if only else f"{word} {without_side(holder.name)}_{holder.side}"
            yield self.take("digits", name, joints)

    def chains(self, skip: tuple[str, ...]) -> Iterator[KitPlan]:
        for start in self.c.joints:
            if not self.free(start) or start.role in EYE_JOINTS or start.role.startswith(skip or ("\0",)):
                continue
            chain = tuple(n for n in chain_below(self.c, start.name) if n not in self.driven)
            stem, _, side = split_name(start.name)
            name = f"{stem}_{side}" if side else stem
            if "fin" in start.role:
                yield self.take("fin", name, {"ray 1": chain})
            elif len(chain) >= 4:
                yield self.take("chain", name, {"chain": chain})
            else:
                yield self.take("turns", name, {"chain": chain})

    def stance(self) -> Iterator[KitPlan]:
        """Three pairs of legs and more push the body."""
        hips = self.c.joint_with_role("hips")
        if hips and len(self.legs) >= 5:
            feet = tuple(end for _, end in self.legs)
            yield self.take("stance", "stance", {"trunk": (hips.name,), "feet": feet}, leans=("trunk", "feet"))

    def eyes(self) -> Iterator[KitPlan]:
        eyes = tuple(j.name for j in self.c.joints if j.role == "eye" and j.name not in self.driven)
        if eyes:
            yield self.take("eyes", "eyes", {"eyes": eyes})

    def _child(self, joint: Joint, role: str, free: bool = True) -> Joint | None:
        kids = self.c.children.get(joint.name, ())
        return next((k for k in kids if k.role == role and (not free or self.free(k))), None)


def outfit(character: Character, digits: bool = True, tail: bool = True) -> Iterator[KitPlan]:
    """The kits that the joints call for, in the order in which they are put on."""
    w = _Wardrobe(character)
    skip: tuple[str, ...] = () if tail else ("tail",)
    skip += () if digits else DIGITS
    if not any(w.free(j) for j in character.joints):
        return
    yield from w.trunk()
    yield from w.wings()
    yield from w.limbs()
    yield from w.digits(skip)
    yield from w.chains(skip)
    yield from w.stance()
    yield from w.eyes()


def kit_of(character: Character, plan: KitPlan) -> Kit:
    """The kit that a plan stands for, its side that of its first joint."""
    first = next((n for names in plan.joints.values() for n in names), "")
    side = character.joint(first).side if first and "unsided" not in PROVIDED.get(plan.kind, ()) else "C"
    return Kit(name=plan.name, kind=plan.kind, side=side, joints=plan.joints, options=plan.options)
