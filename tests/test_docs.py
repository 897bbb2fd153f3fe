"""What can be checked in the docs is checked: rooms that are named exist and the other way round, the layers are those of the
import contracts, every command is in the README, and the pages' types are those of the models."""

import re
import tomllib
from pathlib import Path

from tools import page_types
from vonkel.cli import app as cli
from vonkel.core.plans.proportions import list_figures

ROOT = Path(__file__).parent.parent
TEXT = (ROOT / "docs/architecture.md").read_text()


def layers_drawn(which):
    block = re.findall(r"```\n(.*?)```", TEXT, re.DOTALL)[which]
    return [set(re.split(r" · ", line.split("  ")[0].strip())) for line in block.strip().splitlines()]


def layers_stated(which):
    contract = tomllib.loads((ROOT / "pyproject.toml").read_text())["tool"]["importlinter"]["contracts"][which]
    return [{n.strip().removeprefix("vonkel.") for n in re.split(r"[|:]", layer)} for layer in contract["layers"]]


def test_the_layers_drawn_are_those_that_are_checked():
    assert layers_drawn(0) == layers_stated(0)
    assert layers_drawn(1) == layers_stated(1)


def test_every_room_is_drawn_and_every_drawn_one_exists():
    rooms = {p.stem for p in (ROOT / "vonkel/core").iterdir() if p.suffix == ".py" or (p / "__init__.py").is_file()}
    assert set().union(*layers_drawn(1)) == rooms - {"__init__"}
    houses = {p.stem for p in (ROOT / "vonkel").iterdir() if p.suffix == ".py" or (p / "__init__.py").is_file()}
    assert set().union(*layers_drawn(0)) == houses - {"__init__"}


def test_every_file_that_the_page_names_is_there():
    places = (ROOT, ROOT / "vonkel", ROOT / "vonkel/core", ROOT / "vonkel/core/rig", ROOT / "vonkel/store", ROOT / "vonkel/web", ROOT / "vonkel/web/static", ROOT / "vonkel/web/static/js")  # fmt: skip
    named = [n for n in re.findall(r"`([\w./-]+(?:\.py|\.js|\.toml|/))`", TEXT)]
    assert len(named) > 30
    missing = [n for n in named if not any((p / n).exists() for p in places)]
    assert missing == []


def test_every_word_of_the_glossary_is_where_it_says_and_stands_once():
    text = (ROOT / "docs/glossary.md").read_text()
    rows = [line.split("|")[1:-1] for line in text.splitlines() if line.startswith("| ") and "`" in line]
    assert len(rows) > 30
    named = [n for row in rows for n in re.findall(r"`([\w./-]+(?:\.py|\.js|/))`", row[3])]
    assert [n for n in named if not (ROOT / "vonkel" / n).exists()] == []
    words = [w.strip() for row in rows for w in row[0].split(",")]
    assert sorted(words) == sorted(set(words))


def test_every_figure_that_a_plan_takes_for_granted_has_a_reason_and_a_source():
    for name, value, reason, source in list_figures():
        assert len(reason) > 6 and source and 0 < value < 3, name


def test_every_command_is_in_the_readme():
    readme = (ROOT / "README.md").read_text()
    names = {c.name or c.callback.__name__ for c in cli.registered_commands}
    assert [n for n in sorted(names) if f"`vonkel {n}" not in readme] == []


def test_the_pages_types_are_those_of_the_models():
    assert page_types.OUT.read_text() == page_types.text(), "run python -m tools.page_types"
