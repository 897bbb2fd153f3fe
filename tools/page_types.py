"""Write the types that the pages' modules are checked against, from the models that the server sends.

`python -m tools.page_types` writes `vonkel/web/static/types/models.d.ts`; a test holds it to the models.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pydantic.json_schema import models_json_schema

from vonkel.core.character import Character
from vonkel.readings.findings import Finding

OUT = Path(__file__).resolve().parent.parent / "vonkel/web/static/types/models.d.ts"
HEAD = "// Written by tools/page_types.py from the server's models; don't change it by hand.\n"
PLAIN = {"string": "string", "number": "number", "integer": "number", "boolean": "boolean", "null": "null"}


def text() -> str:
    """The whole file."""
    _, schema = models_json_schema([(Character, "serialization"), (Finding, "serialization")])
    blocks = [_interface(name, body) for name, body in sorted(schema["$defs"].items())]
    return HEAD + "\n".join(blocks)


def _interface(name: str, body: dict[str, Any]) -> str:
    rows = [f"  {k}: {_type(v)};" for k, v in body.get("properties", {}).items()]
    return "\n".join([f"export interface {name} {{", *rows, "}", ""])


def _type(schema: Any) -> str:
    if not isinstance(schema, dict):
        return "any"
    if "$ref" in schema:
        return str(schema["$ref"]).rsplit("/", 1)[1]
    for key in ("anyOf", "oneOf"):
        if key in schema:
            return " | ".join(_type(s) for s in schema[key])
    if "const" in schema:
        return _literal(schema["const"])
    if "enum" in schema:
        return " | ".join(_literal(v) for v in schema["enum"])
    kind = schema.get("type")
    if kind == "array":
        if "prefixItems" in schema:
            return "[" + ", ".join(_type(s) for s in schema["prefixItems"]) + "]"
        inner = _type(schema.get("items", {}))
        return f"({inner})[]" if " | " in inner else f"{inner}[]"
    if kind == "object":
        return f"Record<string, {_type(schema.get('additionalProperties') or {})}>"
    return PLAIN.get(str(kind), "any")


def _literal(value: Any) -> str:
    return f'"{value}"' if isinstance(value, str) else str(value).lower()


def main() -> None:
    OUT.parent.mkdir(exist_ok=True)
    OUT.write_text(text())


if __name__ == "__main__":
    main()
