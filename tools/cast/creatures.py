"""What the cast share: eyes in lids, balls and mirrored extras.

Each creature's module gives NAME, FILE, BOX, CELL (metres), WANTED (quads of half a body, see mesher.quads),
`body` (a mirrored field), `warp`, `extras()` → name → (points, faces), and `paint(points, normals)` → (n, 3) 0–255.
"""

import mesher
import numpy as np
from fields import blend, frame, mix, sphere, step, vec


class Eye:
    """An eyeball in a lid with an almond opening of two arcs: half width, height up and down, metres."""

    def __init__(self, centre, radius, sight, almond=(0.92, 0.80, 0.66), lid=0.28, columns=14):
        self.columns = columns
        self.centre, self.radius, self.sight = vec(*centre), radius, vec(*sight) / np.linalg.norm(sight)
        self.almond, self.thick, self.axes = tuple(a * radius for a in almond), lid * radius, frame(sight)

    def almond_at(self, u, v):
        """Positive inside the opening, as seen along the line of sight; metres."""
        half, up, down = self.almond
        r_up, r_down = (half * half + up * up) / (2 * up), (half * half + down * down) / (2 * down)
        return blend(r_up - np.hypot(u, v - (up - r_up)), r_down - np.hypot(u, v + (down - r_down)), 0.3 * self.radius)

    def lidded(self, d, p, soft=0.5):
        """The field d with a lid grown all over the eyeball; faces.py opens it."""
        return blend(d, sphere(self.centre, self.radius + self.thick)(p), soft * self.radius)

    def balls(self, around=20, down=14):
        """Both eyeballs as parts."""
        p, f = mesher.ball(self.centre, self.radius, self.sight, around, down)
        return {"eye left": (p, f), "eye right": (p * [-1, 1, 1], f[:, ::-1])}

    def colours(self, points, iris, pupil=(0.90, 0.95), white=(244, 236, 220)):
        """Colours of one eyeball's points by the angle from the line of sight."""
        side = np.sign(points[:, 0].mean())
        way = self.sight * [side, 1, 1]
        cosine = (points - points.mean(0)) @ way / self.radius
        c = np.tile(np.array(white, float), (len(points), 1))
        c = mix(c, iris, step(0.66, 0.74, cosine))
        c = mix(c, (30, 22, 22), step(*pupil, cosine))
        spark = np.linalg.norm((points - points.mean(0)) / self.radius - (way * 0.86 + vec(0.25, 0.42, 0.1)), axis=1)
        return mix(c, (255, 252, 240), step(0.22, 0.14, spark))


INSIDE = {"teeth upper": (240, 230, 208), "teeth lower": (240, 230, 208), "tongue": (201, 112, 112)} | dict.fromkeys(
    ("gum upper", "gum lower"), (190, 104, 106)
)
LID, BAG = (178, 112, 104), (150, 74, 78)


def lined(colours, lining, eyes):
    """Colours of a skin with those of its linings, of the bag (n, 3) or, where `eyes` (n,) says so, behind the lids."""
    return np.where(eyes[:, None], mix(colours, LID, lining), mix(colours, BAG, lining))


def both(points, faces):
    """A left extra and its mirror image as one part."""
    return np.vstack([points, points * [-1, 1, 1]]), np.vstack([faces, faces[:, ::-1] + len(points)])


def lathe(profile, around=16, centre=(0, 0, 0), axis=1):
    """A closed body of revolution from (radius, height) rows, poles at both ends; quads, triangles at the poles."""
    rows = [np.array(p, float) for p in profile]
    points, faces = [], []
    for radius, at in rows[1:-1]:
        for i in range(around):
            a = 2 * np.pi * i / around
            points.append((radius * np.cos(a), at, -radius * np.sin(a)))
    n = len(rows) - 2
    points += [(0, rows[0][1], 0), (0, rows[-1][1], 0)]
    low, high = len(points) - 2, len(points) - 1
    for i in range(around):
        k = (i + 1) % around
        for j in range(n - 1):
            faces.append([j * around + i, j * around + k, (j + 1) * around + k, (j + 1) * around + i])
        faces.append([low, k, i, low])
        faces.append([high, (n - 1) * around + i, (n - 1) * around + k, high])
    points = np.array(points)
    if axis != 1:
        points = np.roll(points, axis - 1, axis=1)
    return points + vec(*centre), np.array(faces)
