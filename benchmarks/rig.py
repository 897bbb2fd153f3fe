"""Whole-rig evaluation and the whole-body solve, as ratios against references in the same run.

- the compiled program against the same figure's joints by one 4 × 4 numpy matrix product each, which is the least that
  per-operation numpy would do (no solves, no links, no rules);
- a drag, which runs only what it reaches, against the whole rig;
- six pushed feet against ikpy (where it is installed) solving the six legs one after the other from the same feet.
"""

import numpy as np
from common import best

from vonkel.core.formats import read_character
from vonkel.core.geometry.rotations import matrix_from_quaternion
from vonkel.core.plans import lay_plan
from vonkel.core.rig import PartialEvaluator, compile_rig
from vonkel.core.rig.kits.limb import limb_joints
from vonkel.core.rig.kits.stance import leg_tree
from vonkel.core.rig.wholebody import pushed
from vonkel.demo import CAST, DATA
from vonkel.steps import apply_step

POSES = {
    "otter.obj": {
        "hand_L": {"move y": 0.2}, "body": {"turn y": 0.2, "move y": -0.05}, "chest turn": {"turn x": 0.2},
        "fingers_L": {"fist": 0.5}, "tail 3": {"move x": 0.1}, "foot roll_L": {"roll": 0.4},
    },
    "beetle.obj": {"foot 1_L": {"move y": 0.1}, "body": {"move y": 0.02}},
    "bat.obj": {"wing_L": {"fold": 0.5}, "wing_R": {"fold": 0.5}},
    "newt.obj": {"body": {"move y": 0.05}, "tail 3": {"move x": 0.1}},
}  # fmt: skip


def matrices_only(c):
    """Every joint's world matrix from its parent's by one numpy product."""
    rest = []
    for j in c.joints:
        m = np.eye(4)
        m[:3, :3], m[:3, 3] = matrix_from_quaternion(j.turn), j.place
        rest.append(m)
    index = c.joint_index
    parents = [index[j.parent] if j.parent else -1 for j in c.joints]
    order = sorted(range(len(rest)), key=lambda i: depth(parents, i))
    local = [np.linalg.inv(rest[p]) @ m if p >= 0 else m for m, p in zip(rest, parents, strict=True)]

    def run():
        world = [None] * len(local)
        for i in order:
            world[i] = world[parents[i]] @ local[i] if parents[i] >= 0 else local[i]
        return world

    return run


def depth(parents, i):
    n = 0
    while parents[i] >= 0:
        i, n = parents[i], n + 1
    return n


def member(file):
    m = CAST[file]
    laid = lay_plan(read_character(m.file, (DATA / m.file).read_bytes(), m.name), m.plan, {})
    return apply_step(laid, "limbs.outfit", {})[0]


def evaluation(c, pose):
    program = compile_rig(c)
    follower = PartialEvaluator(program)
    first = next(iter(pose))
    channel = next(iter(pose[first]))
    turn = iter(np.linspace(0, 1, 10**6))

    def drag():
        follower.evaluate({**pose, first: {**pose[first], channel: pose[first][channel] + 0.05 * next(turn)}})

    rest, posed = 1e3 * best(lambda: program.evaluate({})), 1e3 * best(lambda: program.evaluate(pose))
    dragged, plain = 1e3 * best(drag), 1e3 * best(matrices_only(c))
    print(
        f"{c.name}: {len(c.joints)} joints, {len(c.controls)} controls, {len(c.kits)} kits, {len(c.rules)} rules, "
        f"{len(program.operations)} operations"
    )
    print(f"  at rest {rest:.2f} ms, posed {posed:.2f} ms, dragging {first} {dragged:.2f} ms")
    bare = compile_rig(c.with_(kits=(), controls=(), rules=()))
    alone = 1e3 * best(lambda: bare.evaluate({}))
    print(
        f"  joints alone: by numpy matrices {plain:.2f} ms, by our operations {alone:.2f} ms; the whole rig posed is {posed / plain:.1f}x the former"
    )


def stance(c):
    kit = next(k for k in c.kits if k.kind == "stance")
    legs = [next(k for k in c.kits if k.kind == "leg" and k.joints["end"] == (n,)) for n in kit.joints["feet"]]
    tree = leg_tree(c, kit, legs)
    goals = tree.feet + np.array([[0.02, 0.1, 0.0]] + [[0.0, 0.0, 0.0]] * (len(legs) - 1))
    ours = 1e3 * best(lambda: pushed(tree, goals))
    print(f"  whole-body solve, {len(legs)} feet, {6 + len(tree.axes)} freedoms: {ours:.3f} ms")
    try:
        from ikpy.chain import Chain
        from ikpy.link import OriginLink, URDFLink
    except ImportError:
        return
    chains = []
    for leg in legs:
        p = [np.array(c.joint(n).place) for n in limb_joints(leg)]
        links = [OriginLink()]
        for k, axis in enumerate(([1, 0, 0], [0, 1, 0], [0, 0, 1])):
            links.append(URDFLink(f"hip{k}", p[0] if k == 0 else [0, 0, 0], [0, 0, 0], rotation=axis))
        normal = np.cross(p[1] - p[0], p[2] - p[1])
        links.append(URDFLink("knee", p[1] - p[0], [0, 0, 0], rotation=normal / np.linalg.norm(normal)))
        links.append(URDFLink("foot", p[2] - p[1], [0, 0, 0], rotation=[1, 0, 0]))
        chains.append(Chain(links, active_links_mask=[False, True, True, True, True, False]))
    program, pose = compile_rig(c), {"foot 1_L": {"move x": 0.02, "move y": 0.1}}

    def theirs():
        return [chain.inverse_kinematics(g) for chain, g in zip(chains, goals, strict=True)]

    other = 1e3 * best(theirs, 3, 2)
    miss = max(
        float(np.linalg.norm(ch.forward_kinematics(q)[:3, 3] - g))
        for ch, q, g in zip(chains, theirs(), goals, strict=True)
    )
    feet = [program.evaluate(pose).joints[c.joint_index[n], :, 3] for n in kit.joints["feet"]]
    ours_off = max(float(np.linalg.norm(f - g)) for f, g in zip(feet, goals, strict=True))
    print(
        f"  ikpy, the six legs alone with the body held: {other:.1f} ms, {other / ours:.0f}x ours, feet missed by {miss:.1e} m; ours {ours_off:.1e} m"
    )


if __name__ == "__main__":
    for file, pose in POSES.items():
        made = member(file)
        evaluation(made, pose)
        if file == "beetle.obj":
            stance(made)
