"""Steps of the Handover station: the skin that goes out."""

from __future__ import annotations

from pydantic import Field

from ..core.character import Character
from ..core.errors import StepRefused
from ..core.linear.baking import handed_over, nearness
from ..core.linear.targets import with_correctives, without_correctives
from ..core.poses import pose_from_turns, trial_poses
from .registry import Params, step


class HandSkin(Params):
    between: int = Field(
        30, ge=0, le=60, description="the most joints between others that may be added; 0: weights alone are solved"
    )
    influences: int = Field(4, ge=2, le=8, description="the most joints that may hold a point; engines want 4")


def _nearer(before: Character, after: Character) -> str:
    """How far what goes out is from the live skin over the trial poses, before and now."""
    poses = [pose_from_turns(after, p.turns) for p in trial_poses(after)]
    if not poses or after.skin is None or after.skin.handed is None:
        return "no pose to compare"
    count, targets = len(after.skin.handed.between), len(after.skin.handed.correctives)
    was, now = nearness(before, poses), nearness(after, poses)
    return (
        f"{count} joints between others{f', {targets} targets' if targets else ''}; {100 * was.rms:.2f} → {100 * now.rms:.2f} % of the size from the live skin, "
        f"99 in 100 points within {100 * was.most:.2f} → {100 * now.most:.2f} %"
    )


@step("handover.skin", HandSkin, lambda c, p: "Made the skin that goes out", long=True, figures=_nearer)
def skin(character: Character, p: HandSkin) -> Character:
    """Make the skin that goes out: linear, its weights solved for the poses, with joints between others that move half-way."""
    return handed_over(character, p.between, p.influences)


class PutRight(Params):
    targets: int = Field(32, ge=0, le=64, description="the most morph targets that may be added; 0: those there are go")


@step(
    "handover.correctives",
    PutRight,
    lambda c, p: "Put right what was left by targets" if p.targets else "Took the targets off",
    long=True,
    figures=_nearer,
)
def correctives(character: Character, p: PutRight) -> Character:
    """Add morph targets for what is left between the skin that goes out and the live one; they come on with joints' turns."""
    made = with_correctives(character, p.targets)
    return made if p.targets else without_correctives(made)


class Nothing(Params):
    pass


@step("handover.plain", Nothing, lambda c, p: "Let the skin go out as it is")
def plain(character: Character, p: Nothing) -> Character:
    """Let the skin go out with its own weights, blended linearly."""
    held = character.skin
    if held is None or held.handed is None:
        raise StepRefused("It goes out as it is already.", character.name, "There is nothing to take back.")
    return character.with_(
        skin=held.model_copy(update={"handed": None}),
        arrays={n: None for n in character.arrays if n.startswith("handed/")},
    )
