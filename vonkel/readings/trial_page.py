"""The trials as a page that stands alone, and as a table."""

from __future__ import annotations

import csv
import io
from typing import Any

import jinja2

from ..core.character import Character
from ..core.trials.measures import MEASURES

WIDE, HIGH = 320, 110  # of a sweep's curve, pixels
MOST_LIMBS = 4

PAGE = """<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Trials of {{ name }}</title><style>
body { margin: 0 auto; max-width: 1080px; padding: 24px; font: 15px/1.45 Georgia, serif; color: #22303c; background: #faf6ee; }
h1 { font-size: 30px; margin: 0; } h2 { font-size: 20px; margin: 28px 0 8px; } .soft { color: #56636c; }
.cards { display: grid; grid-template-columns: repeat(auto-fill, minmax(320px, 1fr)); gap: 14px; }
article { background: #fffdf8; border: 1px solid #ddd3c1; border-radius: 12px; padding: 12px; } article img { float: left; width: 110px; margin-right: 12px; }
.grade { display: inline-block; width: 24px; text-align: center; border-radius: 6px; font-weight: bold; color: #fff; background: #56636c; }
.grade.A { background: #1b7471; } .grade.B { background: #6b7f4a; } .grade.C { background: #b8741a; } .grade.D { background: #8c2410; }
details { clear: both; } table { border-collapse: collapse; font-size: 13px; } td, th { padding: 1px 8px 1px 0; text-align: left; } td.n { text-align: right; }
svg text { font: 11px sans-serif; fill: #56636c; } .broken li { color: #8c2410; }
</style></head><body>
<h1>{{ name }}</h1><p class="soft">{{ about }}{{ points }} points, {{ joints }} joints. Judged as it is handed over. Limits: common practice, or what
skins bound by hand keep below; a grade is the worst share of them: A to 35 %, B to 70 %, C to 120 %, D beyond.</p>
<p>{% for g, n in grades %}<span class="grade {{ g }}">{{ g }}</span> {{ n }} &nbsp; {% endfor %}</p>
{% if broken is not none %}<h2>Limits</h2>{% if broken %}<ul class="broken">{% for b in broken %}<li>{{ b }}</li>{% endfor %}</ul>{% else %}<p>All are kept.</p>{% endif %}{% endif %}
<h2>Cards, worst first</h2><div class="cards">{% for c in cards %}<article>
{% if c.picture %}<img alt="" src="data:image/png;base64,{{ c.picture }}">{% endif %}
<b>{{ c.name }}</b> <span class="grade {{ c.grade }}">{{ c.grade }}</span><br><span class="soft">{{ c.about }}</span><br>{{ c.worst }}{% if c.worst_joint %}, at {{ c.worst_joint }}{% endif %}
{% if c.plot %}<svg viewBox="0 0 {{ wide }} {{ high }}" width="100%">{{ c.plot | safe }}</svg>{% endif %}
<details><summary>Figures</summary><table>{% for m in c.measures %}<tr><td>{{ m.title }}</td><td class="n">{{ "%.4g" | format(m.value) }}</td><td>{{ m.unit }}</td>
<td class="n">{{ "%.0f" | format(100 * m.share) }} %</td></tr>{% endfor %}{% for k, v in c.volume_change.items() %}<tr><td>volume, {{ k }}</td><td class="n">{{ "%+.1f" | format(100 * v) }}</td><td>%</td><td></td></tr>{% endfor %}</table></details>
</article>{% endfor %}</div></body></html>"""


def told_of(character: Character) -> dict[str, Any]:
    """What the page says of a character besides its cards."""
    about = f"{character.about}. " if character.about else ""
    return {"name": character.name, "about": about, "points": len(character.points), "joints": len(character.joints)}


def trial_page(told: dict[str, Any], cards: list[dict[str, Any]], broken: list[str] | None = None) -> str:
    """HTML with everything in it, of what `told_of` a character: cards with their pictures (base64 under `picture`, where they have one), curves, figures.

    broken: what breaks the limits that were asked for; None where none were.
    """
    env = jinja2.Environment(autoescape=True, undefined=jinja2.StrictUndefined)
    shown = [{"picture": "", **c, "plot": curve_drawing(c["sweep"]) if "sweep" in c else ""} for c in cards]
    grades = [(g, sum(c["grade"] == g for c in cards)) for g in "ABCD"]
    return env.from_string(PAGE).render(
        **told, cards=shown, grades=grades, broken=broken, wide=WIDE, high=HIGH,
    )  # fmt: skip


def curve_drawing(sweep: dict[str, Any]) -> str:
    """The inside of an SVG: the volume of the limbs that change most, percent, over a joint's angle or a motion's frames."""
    over = "°" if "angles" in sweep else ""
    degrees = [57.29578 * a for a in sweep["angles"]] if over else [float(f) for f in sweep["frames"]]
    rows = sorted(sweep["volumes"].values(), key=lambda v: max(map(abs, v)), reverse=True)[:MOST_LIMBS]
    most = max([0.05, *(abs(x) for r in rows for x in r)])
    left, right = min(degrees), max(degrees)

    def at(d: float, v: float) -> str:
        x = 34 + (WIDE - 42) * (d - left) / max(right - left, 1e-9)
        return f"{x:.1f},{HIGH / 2 - 8 - (HIGH / 2 - 16) * v / most:.1f}"

    inks = ("#c8481a", "#1b7471", "#7a3b76", "#8a5e12")
    lines = [
        f'<polyline fill="none" stroke="{ink}" stroke-width="2" points="{" ".join(map(at, degrees, row))}"/>'
        for ink, row in zip(inks, rows, strict=False)
    ]
    zero = at(left, 0).split(",")[1]
    return "".join(
        [
            f'<line x1="34" x2="{WIDE - 8}" y1="{zero}" y2="{zero}" stroke="#ddd3c1"/>', *lines,
            f'<text x="2" y="14">{100 * most:+.0f} %</text><text x="2" y="{HIGH - 22}">{-100 * most:+.0f} %</text>',
            f'<text x="34" y="{HIGH - 2}">{left:.0f}{over}</text><text x="{WIDE - 8}" y="{HIGH - 2}" text-anchor="end">{right:.0f}{over}</text>',
        ]
    )  # fmt: skip


def trial_table(cards: list[dict[str, Any]]) -> str:
    """CSV: a row for each card, angle and frame, a column for each measure."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["card", "grade", "share of what would pass", "angle in degrees or frame", *MEASURES])
    for c in cards:
        by = {m["key"]: m["value"] for m in c["measures"]}
        writer.writerow([_safe(c["name"]), c["grade"], c["badness"], "", *(by.get(k, "") for k in MEASURES)])
        sweep: dict[str, Any] = c.get("sweep") or {}
        at = [round(57.29578 * a, 2) for a in sweep["angles"]] if "angles" in sweep else sweep.get("frames", ())
        for i, angle in enumerate(at):
            values = [sweep["measures"].get(k, [""] * (i + 1))[i] for k in MEASURES]
            row = [sweep["names"][i], sweep["grades"][i], sweep["badness"][i], angle, *values]
            writer.writerow([_safe(row[0]), *row[1:]])
    return out.getvalue()


def _safe(name: str) -> str:
    """A name that no spreadsheet takes for a formula."""
    return f"'{name}" if name[:1] in ("=", "+", "-", "@") else name
