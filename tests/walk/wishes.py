"""Random parameters for any step, made from its own schema: mostly such as fit the character, sometimes nonsense."""

from __future__ import annotations

from typing import Any

import numpy as np

from vonkel.core.character import Character
from vonkel.core.rig.kits import KINDS
from vonkel.core.rig.suggest import suggested
from vonkel.steps.registry import STEPS, npy

PNG = bytes.fromhex(
    "89504e470d0a1a0a0000000d4948445200000001000000010806000000 1f15c4890000000d49444154789c6360000002000001e221bc330000000049454e44ae426082".replace(" ", "")
)  # fmt: skip


class Wishes:
    """Makes parameters; all of them follow from the generator's seed."""

    def __init__(self, rng: np.random.Generator) -> None:
        self.rng = rng

    def one(self, options: Any) -> Any:
        options = list(options)
        return options[int(self.rng.integers(len(options)))] if options else "nobody"

    def chance(self, share: float) -> bool:
        return bool(self.rng.random() < share)

    def params(self, c: Character, step: str) -> dict[str, Any]:
        schema = STEPS[step].params.model_json_schema()
        made = {k: self.value(c, k, s, schema) for k, s in schema.get("properties", {}).items() if k in schema.get("required", ()) or self.chance(0.6)}  # fmt: skip
        return self.fitted(c, step, made)

    # -- from the schema -------------------------------------------------------------------------------------------
    def value(self, c: Character, key: str, s: dict[str, Any], root: dict[str, Any]) -> Any:
        if "$ref" in s:
            return self.value(c, key, root["$defs"][s["$ref"].rsplit("/", 1)[-1]], root)
        for union in ("anyOf", "oneOf"):
            if union in s:
                return self.value(c, key, self.one(s[union]), root)
        if "const" in s:
            return s["const"]
        if "enum" in s:
            return self.one(s["enum"])
        kind = s.get("type")
        if kind == "boolean":
            return self.chance(0.5)
        if kind in ("number", "integer"):
            return self.number(s, kind == "integer")
        if kind == "string":
            return self.word(c, key)
        if kind == "array":
            if "prefixItems" in s:
                return [self.value(c, key, i, root) for i in s["prefixItems"]]
            low, high = s.get("minItems", 0), min(s.get("maxItems", 4), s.get("minItems", 0) + 4)
            return [self.value(c, key, s.get("items", {}), root) for _ in range(int(self.rng.integers(low, high + 1)))]
        if kind == "object" and "npy" in s.get("properties", {}):
            return self.array(c, key)
        if kind == "object" and "properties" in s:
            return {k: self.value(c, k, v, root) for k, v in s["properties"].items() if k in s.get("required", ()) or self.chance(0.5)}  # fmt: skip
        if kind == "object":
            return self.pose(c) if key in ("values", "value") else {}
        return self.one([None, 1, "x"])

    def number(self, s: dict[str, Any], whole: bool) -> float | int:
        low, high = s.get("minimum", s.get("exclusiveMinimum")), s.get("maximum", s.get("exclusiveMaximum"))
        if low is None or high is None or self.chance(0.1):
            n = float(self.one([0, 1, -1, 0.3, 2, -0.5, 40, 1e-9, 1e9, -90, 0.05]))
        else:
            n = float(low + (high - low) * self.rng.random() ** 2)
        return round(n) if whole else n

    def word(self, c: Character, key: str) -> str:
        pools: dict[str, list[str]] = {
            "joint": [j.name for j in c.joints], "part": [p.name for p in c.parts], "kit": [k.name for k in c.kits],
            "control": [k.name for k in c.controls], "rule": [r.name for r in c.rules], "shape": [s.name for s in c.shapes],
            "region": [r.name for r in c.regions], "board": [b.name for b in c.boards], "clip": [k.name for k in c.clips],
        }  # fmt: skip
        things = [f"{k}:{n}" for k in ("joint", "control", "shape", "board") for n in pools[k]] + ["ground"]
        pools["shapes"] = pools["shape"]
        pools |= {
            "joints": pools["joint"], "controls": pools["control"], "parts": pools["part"], "parent": pools["joint"], "end": pools["joint"],
            "link": pools["rule"], "group": pools["rule"] + pools["kit"], "things": things, "thing": things, "other": things, "sources": things,
            "channel": [ch.name for k in c.controls for ch in k.channels][:60] or ["turn x"], "kind": list(KINDS), "pose": [p.name for p in c.poses],
            "picture": [q.name for q in c.pictures], "trial": ["", "coil"], "key": [q.key for b in c.boards for q in b.pictures], "point": [p for k in c.kits for p in k.places], "like": pools["joint"],
            "pattern": ["{part}_{n}", "x{n}", "{n}"], "find": ["tail", "a", "_"], "put": ["b", "", "rudder"], "colour": ["#aabbcc", ""],
        }  # fmt: skip
        if key == "name":
            names = [n for pool in ("joint", "control", "rule", "shape", "part") for n in pools[pool]]
            return str(self.one(["new", "x" * 60, "a/b", "é✨", " ", "hand_L", "back\\slash", *names[:12]]))
        if self.chance(0.06):
            return str(self.one(["", "nobody", "a/b", "x" * 200, "\u202e"]))
        return str(self.one(pools.get(key) or [*pools["joint"], *pools["control"], "nobody"]))

    def array(self, c: Character, key: str) -> Any:
        import base64

        if key == "points":
            made = c.points + self.rng.normal(0, 0.01 * c.size, c.points.shape)
            if self.chance(0.1):
                made = made[:-1] if self.chance(0.5) else made * 1e200
        elif key == "data":
            made = np.frombuffer(PNG if self.chance(0.8) else b"no picture", np.uint8)
        else:
            made = self.one(
                [
                    np.zeros(1, np.int32),
                    np.arange(4),
                    np.array([0, 3]),
                    np.array(3),
                    np.zeros((2, 3)),
                    np.array([0, 1, 2]),
                ]
            )
        return {"npy": base64.b64encode(npy(np.asarray(made))).decode()}

    def pose(self, c: Character) -> dict[str, dict[str, float]]:
        out: dict[str, dict[str, float]] = {}
        for _ in range(int(self.rng.integers(0, 4))):
            if c.controls:
                k = self.one(c.controls)
                if k.channels:
                    out.setdefault(k.name, {})[self.one(k.channels).name] = float(self.rng.normal(0, 0.5))
        if c.shapes and self.chance(0.2):
            out["shapes"] = {self.one(c.shapes).name: 0.5}
        return out

    # -- what would hardly ever fit by chance ------------------------------------------------------------------------
    def fitted(self, c: Character, step: str, p: dict[str, Any]) -> dict[str, Any]:
        if self.chance(0.12):
            return p
        rule = p.get("rule")
        if isinstance(rule, dict):
            p["rule"] = self.rule(c, rule)
        if step == "rules.edit" and c.rules:
            old = self.one(c.rules)
            p["name"], p["rule"] = old.name, old.model_dump() if self.chance(0.7) else p["rule"]
        if step in ("rules.remove", "rules.switch") and c.rules:
            p["name"] = self.one(c.rules).name
        if step == "rules.key" and any(r.kind == "link" for r in c.rules):
            p["link"], p["follower"] = self.one(r.name for r in c.rules if r.kind == "link"), 0
        if step in ("limbs.add_kit",) and c.joints:
            kind = self.one(KINDS)
            try:
                p |= {"kind": kind, "joints": suggested(c, kind, self.one(c.joints).name), "options": {}}
            except Exception:
                p["kind"] = kind
        if step == "limbs.remove_kit" and c.kits:
            p["kit"] = self.one(c.kits).name
        if (
            step in ("controls.limit", "controls.remove_channel", "controls.add_channel", "controls.rename")
            and c.controls
        ):
            k = self.one(c.controls)
            if "controls" in p:
                p["controls"] = [k.name]
            else:
                p["control"] = k.name
            if k.channels and step == "controls.limit":
                p |= {"channel": self.one(k.channels).name, "low": -0.5, "high": 0.5}
        if "samples" in p:
            count = max(len(c.arrays["face_corners"]) // 4, 1)
            p["samples"] = [
                [int(self.rng.integers(count)), 0.3, 0.3, 1.0, *map(float, self.rng.normal(0, 0.05, 3))]
                for _ in range(3)
            ]
            p["radius"] = float(c.size * self.rng.uniform(0.05, 0.5))
        if step == "shapes.order":
            p["shapes"] = [s.name for s in c.shapes][::-1]
        if step in ("shapes.combine", "boards.add") and c.shapes:
            p["shares" if step == "shapes.combine" else "shapes"] = {self.one(c.shapes).name: 0.5}
        if step == "boards.move" and c.boards:
            board = self.one(c.boards)
            p |= {"board": board.name, "places": {q.key: [0.5, -1.0] for q in board.pictures[:1]}}
        if "edge" in p and len(c.arrays["face_corners"]) > 3:
            at = int(self.rng.integers(len(c.arrays["face_corners"]) - 1))
            p["edge"] = [int(v) for v in c.arrays["face_corners"][at : at + 2]]
        for key in ("place", "to"):
            if isinstance(p.get(key), list) and len(p[key]) == 3:
                p[key] = (c.points[int(self.rng.integers(len(c.points)))] + self.rng.normal(0, 0.02, 3)).tolist()
        return p

    def rule(self, c: Character, rule: dict[str, Any]) -> dict[str, Any]:
        """A rule whose channels are such as its things have."""
        channels = {k.name: [ch.name for ch in k.channels] for k in c.controls}

        def fit(holder: dict[str, Any], key: str) -> None:
            name = str(holder.get(key, "")).removeprefix("control:")
            if channels.get(name):
                holder["channel"] = self.one(channels[name])
            elif str(holder.get(key, "")).startswith("joint:"):
                holder["channel"] = f"{self.one(['move', 'turn', 'size'])} {self.one('xyz')}"

        if isinstance(rule.get("lead"), dict):
            fit(rule["lead"], "thing")
            if rule["lead"].get("kind", "channel") == "channel" and c.controls:
                rule["lead"]["thing"] = f"control:{self.one(c.controls).name}"
                fit(rule["lead"], "thing")
        for f in rule.get("followers") or []:
            fit(f, "thing")
            curve = f.get("curve")
            if isinstance(curve, dict) and isinstance(curve.get("keys"), list):
                curve["keys"] = [
                    {"at": i * 0.7 - 1, "value": float(self.rng.normal())} for i in range(max(1, len(curve["keys"])))
                ]
        for s in rule.get("swingers") or []:
            fit(s, "control")
        return rule
