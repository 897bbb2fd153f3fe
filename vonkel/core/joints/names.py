"""Names of joints: one, many by a pattern, and as other standards call them."""

from __future__ import annotations

import re

from ..character import Character, Control, Joint, Ref, opposite_name
from ..character.references import renamed as renamed_things
from ..errors import BadParameters, StepRefused

PATTERN_WORDS = ("{part}", "{n}", "{side}", "{Side}")


def rename_joint(character: Character, name: str, new: str, both_sides: bool = True) -> Character:
    """Give a joint another name everywhere it is used; its partner's follows when both end in a side tag."""
    renames = {name: new}
    partner, new_partner = character.partner(name), opposite_name(new)
    if both_sides and partner and new_partner != new:
        renames[partner] = new_partner
    return renamed(character, renames)


def renamed(character: Character, renames: dict[str, str]) -> Character:
    """Joints under new names, everywhere they are used.

    Raises NotFound for a joint that isn't there and BadParameters where two would have one name.
    """
    for n, new in renames.items():
        character.joint(n)
        Joint.model_validate({"name": new, "place": (0, 0, 0)})  # refuses what can't be a name
    taken = set(character.joint_index) - set(renames)
    seen: set[str] = set()
    for n in renames.values():
        if n in taken or n in seen:
            raise BadParameters(f"There is a joint called “{n}” already.", character.name, "Choose another name.")
        seen.add(n)

    things = {Ref.joint(a): Ref.joint(b) for a, b in renames.items()}
    things |= {Ref.control(f"{a} turn"): Ref.control(f"{b} turn") for a, b in renames.items()}
    result = renamed_things(character, things)

    def keyed(c: Control) -> Control:
        """A key says of which joint a control is, as `turn:tail_2`."""
        word, colon, joint = c.key.partition(":")
        return c.model_copy(update={"key": word + colon + renames[joint]}) if joint in renames else c

    return result.with_(controls=tuple(map(keyed, result.controls)))


def split_name(name: str) -> tuple[str, str, str]:
    """A name as part, number and side: `index_2_L` → (“index”, “2”, “L”)."""
    found = re.fullmatch(r"(.*?)(?:[_ ](\d+))?(?:_([LR]))?", name)
    assert found is not None  # every name matches: all but the first group may be absent
    return found[1], found[2] or "", found[3] or ""


def numbered(character: Character, chain: list[str], pattern: str) -> dict[str, str]:
    """New names for joints in a row from a pattern such as `tail_{n}` or `{part}_{n}`: name → new name.

    {n} counts from 1, {part} is the old name without number and side.  A side tag stays at the end.
    """
    if "{n}" not in pattern and len(chain) > 1:
        raise BadParameters("Several joints need a number in the pattern.", pattern, "Put {n} into it.")
    out = {}
    for i, n in enumerate(chain):
        part, _, side = split_name(n)
        made = pattern.replace("{n}", str(i + 1)).replace("{part}", part)
        if side and not made.endswith(f"_{side}"):
            made += f"_{side}"
        out[n] = made
    return out


def replaced(character: Character, find: str, put: str, names: list[str] | None = None) -> dict[str, str]:
    """New names for all (or chosen) joints whose name holds `find`: name → new name.  Raises StepRefused for none."""
    if not find:
        raise BadParameters("Find what?", "", "Type the letters to look for.")
    out = {n: n.replace(find, put) for n in (names or list(character.joint_index)) if find in n}
    if not out:
        raise StepRefused(f"No joint's name holds “{find}”.", character.name)
    return out


def with_partners(character: Character, renames: dict[str, str]) -> dict[str, str]:
    """The same renames for partners on the other side that are not among them."""
    out = dict(renames)
    for n, new in renames.items():
        partner, made = character.partner(n), opposite_name(new)
        if partner and partner not in out and made != new:
            out[partner] = made
    return out


def by_pattern(character: Character, pattern: str) -> dict[str, str]:
    """Every joint's name written by one pattern, as for an export: joint → name.

    {part}, {n} (nothing where there is none), {side} (L, R or C), {Side} (left, right or nothing).  Separators left
    over where a word is empty are dropped.  Raises BadParameters where names would fall together.
    """
    if "{part}" not in pattern:
        raise BadParameters("The pattern needs {part}.", pattern, "Such as {side}_{part}{n}.")
    words = {"L": "left", "R": "right", "": ""}
    out = {}
    for name in character.joint_index:
        part, n, side = split_name(name)
        made = pattern.replace("{part}", part).replace("{n}", n).replace("{side}", side or "C")
        made = made.replace("{Side}", words[side])
        out[name] = re.sub(r"([_\-. ])[_\-. ]+", r"\1", made).strip("_-. ")
    if len(set(out.values())) < len(out):
        raise BadParameters("Two joints would have the same name.", pattern, "Put {n} and {side} into the pattern.")
    return out


def joint_names(character: Character, wanted: str) -> dict[str, str]:
    """Joint → name for an export: “” its own, “hanim” the humanoid standard's where there is one, or a pattern."""
    if not wanted:
        return {}
    return hanim_names(character) if wanted == "hanim" else by_pattern(character, wanted)


# The joints of the humanoid hierarchy of ISO/IEC 19774-1:2019 (H-Anim), annex A, by the roles of the biped plan.
# A role with {d} is a digit's joint; sided roles get l_ or r_.
HANIM_MIDDLE = {"hips": "sacroiliac", "head": "skullbase", "jaw": "temporomandibular"}
HANIM_SPINE = ("vl5", "vl3", "vl1", "vt10", "vt6", "vt3", "vt1")
HANIM_NECK = ("vc7", "vc4", "vc2", "vc1")
HANIM_SIDED = {
    "collar": "sternoclavicular", "upper_arm": "shoulder", "forearm": "elbow", "hand": "radiocarpal",
    "thigh": "hip", "shin": "knee", "foot": "talocrural", "ball": "metatarsophalangeal_2", "eye": "eyeball_joint",
    "thumb_1": "carpometacarpal_1", "thumb_2": "metacarpophalangeal_1", "thumb_3": "carpal_interphalangeal_1",
}  # fmt: skip
HANIM_FINGERS = {"index": 2, "middle": 3, "ring": 4, "little": 5}
HANIM_LINKS = ("metacarpophalangeal", "carpal_proximal_interphalangeal", "carpal_distal_interphalangeal")


def hanim_names(character: Character) -> dict[str, str]:
    """Joint → its name in ISO/IEC 19774-1 where there is one; the root is `humanoid_root`'s child `sacroiliac`.

    Links of spine and neck take names spread evenly over the vertebrae.
    """
    out: dict[str, str] = {}
    spine = [j.name for j in character.joints if j.role.startswith(("spine", "chest")) and j.side == "C"]
    neck = [j.name for j in character.joints if j.role.startswith("neck") and j.side == "C"]
    for chain, table in ((spine, HANIM_SPINE), (neck, HANIM_NECK)):
        for i, n in enumerate(chain[: len(table)]):
            at = round(i * (len(table) - 1) / max(len(chain) - 1, 1)) if len(chain) > 1 else 0
            out[n] = table[at]
    for j in character.joints:
        prefix = {"L": "l_", "R": "r_", "C": ""}[j.side]
        if j.side == "C" and j.role in HANIM_MIDDLE:
            out[j.name] = HANIM_MIDDLE[j.role]
        elif j.side != "C" and j.role in HANIM_SIDED:
            out[j.name] = prefix + HANIM_SIDED[j.role]
        else:
            found = re.fullmatch(r"(index|middle|ring|little)_([123])", j.role)
            if found and j.side != "C":
                out[j.name] = f"{prefix}{HANIM_LINKS[int(found[2]) - 1]}_{HANIM_FINGERS[found[1]]}"
    return out
