"""Fins and tail fans: rays under one control."""

from __future__ import annotations

import numpy as np

from ...character import Character, Curve, CurveKey, Follower, Kit, Lead, Link, Ref, Rule
from ...geometry.rotations import matrix_from_quaternion, unit
from .led import Led, curled, fanned, swept, tip_of, turned_about_bone

FIN_RAYS = {f"ray {i}": (0, 12, f"ray {i}, from its first joint") for i in range(1, 13)}


class Fin(Led):
    kind = "fin"
    about = "A fin or flipper, one chain or several rays: curl, sweep, twist and spread."
    lead_word = "fin"
    roles = FIN_RAYS
    named = {"curl": curled(-0.6, 0.6), "sweep": swept(0.8), "twist": turned_about_bone(0.9), "spread": fanned(0.45)}


class Fan(Led):
    kind = "fan"
    about = "A tail fan: spread and closed, its sides slid inside the middle; raised, swept and curled."
    lead_word = "fan"
    roles = FIN_RAYS
    named = {"spread": fanned(0.7), "raise": curled(-0.7, 0.7), "sweep": swept(0.6)}

    def rules(self, character: Character, kit: Kit) -> list[Rule]:
        """Closing also slides every side ray under the middle one, by its place in the row."""
        made = super().rules(character, kit)
        firsts = [character.joint(names[0]) for names in self.chains(kit)]
        lead = self.lead_of(character, kit).name
        if len(firsts) < 2:
            return made
        places = np.array([j.place for j in firsts])
        tips = np.array([tip_of(character, j) for j in firsts])
        ahead = unit((tips - places).mean(0))
        row = np.linalg.svd(tips - tips.mean(0))[2][0]
        normal = np.cross(ahead, row)
        normal *= -1.0 if normal[1] < 0 else 1.0
        far = (tips - tips.mean(0)) @ row
        followers = []
        for j, f in zip(firsts, far, strict=True):
            share = abs(f) / max(float(np.abs(far).max()), 1e-9)
            own = matrix_from_quaternion(j.turn).T @ (-normal * share * 0.012 * character.size)
            for axis in range(3):
                if abs(own[axis]) > 1e-7:
                    keys = (CurveKey(at=-1, value=float(own[axis])), CurveKey(at=0, value=0.0))
                    thing = Ref.joint(j.name)
                    followers.append(Follower(thing=thing, channel=f"move {'xyz'[axis]}", curve=Curve(keys=keys)))
        slide = Link(
            name=f"{kit.name} slide", kit=kit.name, lead=Lead(thing=Ref.control(lead), channel="spread"),
            followers=tuple(followers),
        )  # fmt: skip
        return [*made, slide]
