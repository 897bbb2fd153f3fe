"""What the pages are told of a character."""

from __future__ import annotations

import json
import struct
from typing import Any

import numpy as np

from ..core.character import Character
from ..core.rig import Pose
from ..core.rig.frames import matrices
from ..core.trials import trial_poses
from ..readings import findings, station_states
from ..readings.report import counts
from ..store import Position
from ..workshop import Workshop
from ..workshop.workshop import ROOT_STEP


def state(workshop: Workshop, number: int) -> dict[str, Any]:
    """All of a character but its mesh: what a page needs to draw its sheets."""
    position = workshop.store.position(number)
    c = workshop.character(number, position.step)
    found = findings(c)
    cards, fresh = workshop.trials(number)
    rows = workshop.store.ledger(number)
    values, label = workshop.store.pose(number)
    last = next((r for r in reversed(rows) if not r.undone), None)
    return {
        "number": number,
        "position": {"step": position.step, "pose": position.pose},
        "name": c.name,
        "about": c.about,
        "plan": c.plan,
        "height": c.height,
        "size": np.ptp(c.points, axis=0).tolist() if len(c.points) else [0, 0, 0],
        "low": c.points.min(0).tolist() if len(c.points) else [0, 0, 0],
        "counts": counts(c),
        "mesh": mesh_key(c),
        "parts": [p.model_dump() for p in c.parts],
        "joints": [j.model_dump() for j in c.joints],
        "kits": [k.model_dump() for k in c.kits],
        "controls": [k.model_dump() for k in c.controls],
        "shapes": [s.model_dump() for s in c.shapes],
        "poses": [p.name for p in c.poses],
        "skin": {**c.skin.model_dump(), "holds": _holds(c)} if c.skin else None,
        "findings": [f.model_dump() for f in found],
        "stations": station_states(c, found, bool(cards) and fresh),
        "steps": sum(not r.undone for r in rows),
        "last": {"sentence": last.sentence, "number": last.number} if last else None,
        "can_undo": bool(position.pose) or (last is not None and last.name != ROOT_STEP),
        "can_redo": workshop.store.can_redo(number),
        "pose": {"values": values, "label": label},
        "store_bytes": workshop.store.bytes_used(),
        "trial_names": [p.name for p in trial_poses(c)] if c.skin else [],
    }


def _holds(c: Character) -> dict[str, float]:
    """Joint → the share of all weight that it carries, against the largest."""
    assert c.skin
    total = np.bincount(
        c.arrays["skin/joints"].ravel(), c.arrays["skin/weights"].ravel().astype(float), len(c.skin.joints)
    )
    most = max(float(total.max()), 1e-9)
    return {n: round(float(t / most), 4) for n, t in zip(c.skin.joints, total, strict=True)}


def mesh_key(c: Character) -> str:
    parts = json.dumps([(p.points, p.faces, p.colour) for p in c.parts])
    import hashlib

    names = ("points", "face_starts", "face_corners", "colours")
    text = "".join(c.arrays.hash_of(n) for n in names if n in c.arrays) + parts
    return hashlib.blake2b(text.encode(), digest_size=10).hexdigest()


def mesh_bytes(c: Character) -> bytes:
    """Header length, header JSON, then points float32, triangles uint32, colours uint8 ×3, part of each triangle uint16."""
    from ..core.geometry.topology import topology_of

    topo = topology_of(c)
    part = np.zeros(len(topo.sizes), np.uint16)
    for i, p in enumerate(c.parts):
        part[p.faces[0] : p.faces[1]] = i
    colours = c.arrays.get("colours")
    if colours is None:
        colours = np.zeros((len(c.points), 3), np.uint8)
        for p in c.parts:
            colours[p.points[0] : p.points[1]] = list(bytes.fromhex(p.colour[1:]))
    header = json.dumps({"points": len(c.points), "triangles": len(topo.triangles)}).encode()
    header += b" " * (-len(header) % 4)
    blobs = [
        c.points.astype(np.float32).tobytes(), topo.triangles.astype(np.uint32).tobytes(), colours.tobytes(),
    ]  # fmt: skip
    body = b"".join(blobs)
    body += b"\0" * (-len(body) % 4)
    return struct.pack("<I", len(header)) + header + body + part[topo.triangle_face].tobytes()


def frame_bytes(
    sequence: int, points: np.ndarray, pose: Pose, controls: tuple[str, ...], said: dict[str, Any]
) -> bytes:
    """One live frame: sequence and JSON length uint32, JSON, then points, joint frames and control frames, float32."""
    text = json.dumps(said).encode()
    text += b" " * (-len(text) % 4)
    frames = matrices([pose.controls[n] for n in controls]).astype(np.float32)
    return b"".join(
        (
            struct.pack("<II", sequence, len(text)),
            text,
            points.tobytes(),
            pose.joints.astype(np.float32).tobytes(),
            frames.tobytes(),
        )
    )


def where(position: Position) -> dict[str, int]:
    return {"step": position.step, "pose": position.pose}
