"""What can be looked up at /docs, made from the registries and the application itself: nothing is written twice."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from fastapi import FastAPI

from ..core.formats import FORMATS
from ..core.plans import PLANS
from ..core.plans.proportions import list_figures
from ..core.rig.kits import KINDS
from ..core.skin.bind import BINDINGS
from ..core.trials.measures import MEASURES
from ..readings.registry import READINGS
from ..steps import STEPS

Field = tuple[str, str, str]  # name, what it may be, what it is


def reference(app: FastAPI) -> dict[str, Any]:
    """Everything that is registered, ready for a page."""
    return {
        "steps": [(k.name, k.about, fields(k.params.model_json_schema())) for k in _by_name(STEPS)],
        "readings": [(n, r.about) for n, r in READINGS.items()],
        "kits": [(k.kind, k.about, [(r, what) for r, (_, _, what) in k.roles.items()]) for k in _by_name(KINDS)],
        "plans": [(n, about) for n, (about, _, _) in PLANS.items()],
        "proportions": list_figures(),
        "bindings": [(n, b.title, b.about) for n, b in BINDINGS.items()],
        "measures": [(m.title, m.unit, m.limit, m.source) for m in MEASURES.values()],
        "formats": [(e, f.title, f.read is not None, f.write is not None) for e, f in FORMATS.items()],
        "routes": list(_routes(app.openapi())),
    }


def _by_name(registry: Mapping[str, Any]) -> Iterable[Any]:
    return (registry[n] for n in sorted(registry))


def fields(schema: Mapping[str, Any]) -> list[Field]:
    """The fields of a JSON schema in words."""
    required = set(schema.get("required", ()))
    return [
        (name + ("" if name in required else " (may be left out)"), _kind(s), str(s.get("description", "")))
        for name, s in schema.get("properties", {}).items()
    ]


def _kind(schema: Any) -> str:
    if not isinstance(schema, dict):
        return "anything"
    if "$ref" in schema:
        return str(schema["$ref"]).rsplit("/", 1)[1]
    for key in ("anyOf", "oneOf", "allOf"):
        if key in schema:
            return " or ".join(dict.fromkeys(_kind(s) for s in schema[key]))
    if "enum" in schema:
        return ", ".join(f"“{v}”" for v in schema["enum"])
    if "const" in schema:
        return f"“{schema['const']}”"
    kind = str(schema.get("type", "anything"))
    if kind == "array" and isinstance(schema.get("items"), dict):
        return f"list of {_kind(schema['items'])}"
    return {"null": "nothing", "boolean": "yes or no", "integer": "whole number", "string": "text"}.get(kind, kind)


def _routes(api: Mapping[str, Any]) -> Iterable[tuple[str, str, str, list[Field]]]:
    schemas = api.get("components", {}).get("schemas", {})
    for path, methods in sorted(api["paths"].items()):
        for method, told in methods.items():
            given = [(p["name"], _kind(p.get("schema", {})), f"in the {p['in']}") for p in told.get("parameters", [])]
            for content in told.get("requestBody", {}).get("content", {}).values():
                body = content.get("schema", {})
                body = schemas.get(str(body.get("$ref", "")).rsplit("/", 1)[-1], body)
                given += fields(body)
            yield method.upper(), path, told.get("description", told.get("summary", "")), given
