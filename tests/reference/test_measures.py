"""Geometry against outside references: trimesh for volume, inertia and sections; published joint names and ranges."""

from pathlib import Path

import numpy as np
import pytest
import trimesh

from vonkel.core.geometry.measures import area, girth, mass_properties, measured_length, section
from vonkel.core.geometry.rays import first_hits, ray_hits
from vonkel.core.geometry.topology import topology_of
from vonkel.core.joints.freedom import DOG, PEOPLE, range_for
from vonkel.core.joints.names import by_pattern, hanim_names

DATA = Path(__file__).parent / "data"


@pytest.fixture(scope="module")
def body(otter_mesh):
    part = otter_mesh.part("body")
    topo = topology_of(otter_mesh)
    tri = topo.triangles[topo.triangle_face < part.faces[1]]
    return otter_mesh.points[: part.points[1]], tri


def test_volume_centre_and_inertia_against_trimesh(body):
    points, tri = body
    reference = trimesh.Trimesh(points, tri, process=False)
    volume, centre, inertia = mass_properties(points, tri)
    assert volume == pytest.approx(reference.volume, rel=1e-12)
    assert np.allclose(centre, reference.center_mass, atol=1e-12)
    assert np.allclose(inertia, reference.moment_inertia, rtol=1e-9, atol=1e-14)
    assert area(points, tri) == pytest.approx(reference.area, rel=1e-12)


def test_inertia_of_a_box_by_the_handbook():
    """A box a × b × c of mass m: I = m/12 (b² + c²) … (any handbook of mechanics)."""
    box = trimesh.creation.box((0.3, 0.5, 0.7))
    volume, _, inertia = mass_properties(np.array(box.vertices) + 4.0, np.array(box.faces))
    m = 0.3 * 0.5 * 0.7
    assert volume == pytest.approx(m)
    expected = m / 12 * np.array([0.5**2 + 0.7**2, 0.3**2 + 0.7**2, 0.3**2 + 0.5**2])
    assert np.allclose(np.diag(inertia), expected, rtol=1e-9) and np.allclose(
        inertia - np.diag(np.diag(inertia)), 0, atol=1e-12
    )


def test_sections_and_girth_against_trimesh(otter_mesh, body):
    points, tri = body
    reference = trimesh.Trimesh(points, tri, process=False)
    for y in (0.15, 0.55, 1.13):
        ours = sorted(
            float(np.linalg.norm(np.diff(c, axis=0), axis=1).sum())
            for c in section(points, tri, np.array([0, y, 0]), np.array([0, 1.0, 0]))
        )
        cut = reference.section([0, 1, 0], [0, y, 0])
        theirs = sorted(
            float(np.linalg.norm(np.diff(cut.vertices[e.points], axis=0), axis=1).sum()) for e in cut.entities
        )
        assert np.allclose(ours, theirs, rtol=1e-6)
    waist, line = girth(otter_mesh, np.array([0.0, 0.55, 0.15]), np.array([0, 1.0, 0]), ("body",))
    assert 0.8 < waist < 1.2 and np.allclose(line[0], line[-1])  # about 2π · 0.16 m
    assert measured_length(otter_mesh, "height") == pytest.approx(np.ptp(otter_mesh.points[:, 1]))


def test_ray_hits_of_a_box_by_its_planes():
    """Where a line meets an axis-parallel box is known plane by plane (Kay & Kajiya 1986, slabs)."""
    box = trimesh.creation.box((0.4, 0.6, 1.0))
    rng = np.random.default_rng(8)
    met = 0
    for _ in range(200):
        origin, aim = rng.normal(0, 1, 3) * 3, rng.uniform(-0.6, 0.6, 3)
        way = (aim - origin) / np.linalg.norm(aim - origin)
        near, far = -np.inf, np.inf
        for k, half in enumerate((0.2, 0.3, 0.5)):
            a, b = sorted(((-half - origin[k]) / way[k], (half - origin[k]) / way[k]))
            near, far = max(near, a), min(far, b)
        expected = [t for t in (near, far) if t > 0] if near < far else []
        t, _ = ray_hits(np.array(box.vertices), np.array(box.faces, np.int32), origin, way)
        assert np.allclose(np.unique(t.round(9)), np.round(expected, 9), atol=2e-9)
        met += bool(expected)
    assert met > 50


def test_first_hits_of_many_rays_are_those_of_each_alone(body):
    """The tree of boxes leaves nothing out: rays at slants, along axes, from inside, through corners, and between bounds."""
    points, tri = body
    rng = np.random.default_rng(3)
    low, wide = points.min(0), np.ptp(points, axis=0)
    origins = low + rng.uniform(-0.3, 1.3, (300, 3)) * wide
    ways = low + rng.uniform(0, 1, (300, 3)) * wide - origins
    ways[:60] = np.eye(3)[rng.integers(0, 3, 60)] * rng.choice([-1, 1], (60, 1))
    ways[60:90] = points[rng.integers(0, len(points), 30)] - origins[60:90]
    ways /= np.linalg.norm(ways, axis=1, keepdims=True)
    at, which = first_hits(points, tri, origins, ways, 0.05, 1.2)
    for k in range(300):
        t, hit = ray_hits(points, tri, origins[k], ways[k])
        wanted = (t > 0.05) & (t < 1.2)
        if 60 <= k < 90:  # through a corner, which either of its triangles may own
            assert at[k] <= min([*t[wanted], np.inf]) + 1e-9
        elif wanted.any():
            assert at[k] == t[wanted][0] and which[k] == hit[wanted][0]
        else:
            assert np.isinf(at[k]) and which[k] == -1
    assert 80 < np.isfinite(at).sum() < 280
    assert np.isinf(first_hits(points, tri[:0], origins, ways, 0.0)[0]).all()


def test_humanoid_names_are_those_of_the_standard(otter):
    """ISO/IEC 19774-1:2019, joint names, from the table in data/hanim_joints.txt (see data/README.md)."""
    table = set((DATA / "hanim_joints.txt").read_text().split())
    made = hanim_names(otter)
    assert set(made.values()) <= table and len(set(made.values())) == len(made)
    assert made["forearm_L"] == "l_elbow" and made["shin_R"] == "r_knee" and made["head"] == "skullbase"
    assert made["index_1_L"] == "l_metacarpophalangeal_2" and len(made) > 40
    assert made["upper_arm_L"] == "l_shoulder"
    assert made["collar_L"] == "l_sternoclavicular"
    # The hierarchy's order: from root to tip, the names of our chains come in the order of the standard's (its figure of
    # the joint hierarchy, from memory).
    for limb in (
        ("sacroiliac", "l_hip", "l_knee", "l_talocrural"),
        (
            "l_sternoclavicular",
            "l_acromioclavicular",
            "l_shoulder",
            "l_elbow",
            "l_radiocarpal",
            "l_metacarpophalangeal_2",
        ),
    ):
        assert set(limb) <= table
        named = {own: j for j, own in made.items()}
        for above, below in zip([n for n in limb if n in named], [n for n in limb if n in named][1:], strict=False):
            line, at = [], otter.joint(named[below])
            while at.parent:
                at = otter.joint(at.parent)
                line.append(at.name)
            assert named[above] in line, (above, below)
    own = by_pattern(otter, "{Side} {part} {n}")
    assert own["index_2_L"] == "left index 2" and own["head"] == "head"


def test_normal_ranges_are_the_published_ones():
    """American Academy of Orthopaedic Surgeons 1965; Jaegger, Marcellin-Little & Levine 2002, table 1 (from memory)."""
    assert PEOPLE["forearm"].bend == (0, 150) and PEOPLE["forearm"].twist == (-80, 80)
    assert PEOPLE["shin"].bend == (0, 135) and PEOPLE["hand"].bend == (-70, 80)
    assert PEOPLE["thigh"].bend == (-30, 120) and PEOPLE["upper_arm"].bend == (-60, 180)
    assert range_for(PEOPLE, "ring_2").bend == (0, 100)
    assert range_for(PEOPLE, "spine_2", 4).bend == (-25 / 4, 80 / 4)  # a trunk's range shared out among its links
    stifle = DOG["shin"].bend
    assert (180 - stifle[1], 180 - stifle[0]) == (41, 162)
