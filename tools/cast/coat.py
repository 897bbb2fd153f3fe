"""Colours of the otter lamplighter: umber fur, cream bib and muzzle, sooty paws, ember rings on the tail."""

import numpy as np
from fields import mix, step

FUR, CREAM, SOOT, EMBER, NOSE = (
    np.array(c, float) for c in ((122, 88, 66), (234, 217, 184), (66, 50, 46), (206, 92, 40), (46, 36, 38))
)
SCLERA, IRIS, PUPIL = (np.array(c, float) for c in ((244, 236, 220), (214, 138, 38), (30, 22, 22)))


def fur(p, normals):
    """(n, 3) 0–255 for points (n, 3) of the otter's skin; mirror-symmetric because only |x| is used."""
    x, y, z = np.abs(p[:, 0]), p[:, 1], p[:, 2]
    c = np.tile(FUR, (len(p), 1)) * (1 + 0.05 * np.sin(60 * y + 25 * z))[:, None]
    c = mix(c, FUR * 0.72, step(0.25, 0.9, -normals[:, 2]) * step(0.30, 0.45, y))  # darker back
    bib = step(0.25, 0.75, normals[:, 2]) * step(0.125, 0.085, x) * step(0.34, 0.44, y) * step(0.87, 0.80, y)
    c = mix(c, CREAM, bib)
    muzzle = step(0.16, 0.10, np.sqrt((x / 1.0) ** 2 + ((y - 0.955) / 0.75) ** 2 + ((z - 0.19) / 1.1) ** 2))
    c = mix(c, CREAM, muzzle * step(0.02, 0.09, z))
    brow = np.exp(-(((x - 0.088) / 0.030) ** 2 + ((y - 1.118) / 0.014) ** 2)) * step(0.02, 0.08, z)
    c = mix(c, CREAM, 0.9 * brow)
    nose = step(0.050, 0.036, np.sqrt(x**2 + ((y - 1.012) / 0.8) ** 2 + (z - 0.232) ** 2))
    c = mix(c, NOSE, nose)
    ear = step(0.040, 0.022, np.sqrt((x - 0.180) ** 2 + (y - 1.125) ** 2 + (z - 0.005) ** 2))
    c = mix(c, np.array([206.0, 150, 132]), ear)
    hand = step(0.40, 0.44, x) * step(0.60, 0.50, y)
    foot = step(0.075, 0.045, y) * step(0.03, 0.05, x) * step(-0.2, -0.12, z)
    c = mix(c, SOOT, np.maximum(hand, foot))
    for at in (-0.46, -0.60, -0.74):
        ring = step(0.034, 0.022, np.abs(z - at)) * step(0.32, 0.28, y)
        c = mix(c, EMBER, ring)
    return mix(c, SOOT, step(-0.82, -0.86, z))


def eye(p, centre, radius, forward):
    """Colours of an eyeball by the angle from its line of sight."""
    cosine = (p - centre) @ forward / radius
    c = np.tile(SCLERA, (len(p), 1))
    c = mix(c, IRIS, step(0.72, 0.78, cosine))
    return mix(c, PUPIL, step(0.88, 0.95, cosine))
