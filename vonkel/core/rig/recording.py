"""Links recorded by posing: at this value, this pose."""

from __future__ import annotations

from ..character import Character, Curve, CurveKey, Follower, Inputs, Lead, Link, Ref
from ..character.references import things_of
from ..character.rules import curve_function, rounded
from ..errors import StepRefused
from .builder import Builder
from .compile import compile_rig
from .rules.links import lead_reader
from .slots import Slot

NEAR = 1e-4  # keys nearer than this stand at one value


def recorded(character: Character, link: Link, at: float, values: Inputs, rest: float = 0.0) -> Link:
    """The link with a key at `at` where every control stands as posed by hand in `values` on top of what the link does.

    Channels that follow already keep their other keys; new ones also get a key of zero at `rest`, the lead's own value
    at rest.  Raises StepRefused where nothing was posed, or where `at` is the rest value, at which nothing may be led.
    """
    if abs(at - rest) < NEAR:
        raise StepRefused(
            "At rest the lead leads nothing.", link.name, "Set the lead to another value, then pose and record."
        )
    lead = link.lead.thing.name if link.lead.kind == "channel" else ""
    channels = {c.name: {k.name: k for k in c.channels} for c in character.controls}
    have = {(f.thing, f.channel): f for f in link.followers}
    changed = False
    for control, given in values.items():
        if control == lead:
            continue
        for channel, value in given.items():
            known = channels.get(control, {}).get(channel)
            if control == "shapes":
                thing, name, own = Ref.shape(channel), "", value
            elif known is not None:
                thing, name, own = Ref.control(control), channel, value - known.rest
            else:
                continue
            if abs(own) < 1e-9:
                continue
            changed = True
            f = have.get((thing, name))
            if f is None:
                keys = [CurveKey(at=rest, value=0.0)]
                f = Follower(thing=thing, channel=name, curve=Curve(keys=tuple(keys), manner="linear", past="continue"))
            now = curve_function(f.curve)(at) + own
            have[(thing, name)] = f.model_copy(update={"curve": keyed(f.curve, at, now)})
    if not changed:
        raise StepRefused("Nothing was posed.", link.name, "Pose the controls that are to follow, then record.")
    return link.model_copy(update={"followers": tuple(have.values())})


def keyed(curve: Curve, at: float, value: float) -> Curve:
    """The curve with a key at `at`; one that stands there already takes the value."""
    keys = [k for k in curve.keys if abs(k.at - at) >= NEAR]
    keys.append(CurveKey(at=at, value=value))
    return curve.model_copy(update={"keys": tuple(sorted(keys, key=lambda k: k.at))})


def zero_at_rest(link: Link, rest: float) -> tuple[Link, bool]:
    """The link with every curve moved up or down so that it gives nothing at rest; and whether one had to be."""
    followers, moved = [], False
    for f in link.followers:
        off = curve_function(f.curve)(rounded(rest, link.rounding))
        if abs(off) > 1e-12:
            moved = True
            keys = tuple(CurveKey(at=k.at, value=k.value - off) for k in f.curve.keys)
            f = f.model_copy(update={"curve": f.curve.model_copy(update={"keys": keys})})
        followers.append(f)
    return link.model_copy(update={"followers": tuple(followers)}), moved


def lead_rest(character: Character, link: Link) -> float:
    """The lead's value at rest: zero but for channels that rest elsewhere."""
    if link.lead.kind != "channel":
        return 0.0
    control = character.control_named.get(link.lead.thing.name)
    found = next((k.rest for k in control.channels if k.name == link.lead.channel), 0.0) if control else 0.0
    return float(found)


def lead_value(character: Character, lead: Lead, inputs: Inputs) -> float:
    """What a lead reads at these values: metres, radians or plain numbers.  Raises NotFound for what isn't there."""
    program = compile_rig(character)
    probe = Link(name="probe", lead=lead, followers=())
    probe.check(things_of(character))
    if lead.kind == "channel":
        return program.evaluate(inputs).values[program.channels[(lead.thing.name, lead.channel)]]
    builder = Builder(character, character.size)
    _, _, read = lead_reader(builder, lead)
    state = list(builder.initial)
    pose = program.evaluate(inputs)
    for j, m in zip(program.joint_names, pose.joints, strict=True):
        state[builder.slots[Slot.joint(j)]] = tuple(float(v) for v in m.ravel())
    for c in program.control_names:
        state[builder.slots[Slot.control(c)]] = pose.controls[c]
    return float(read(state, list(pose.values)))
