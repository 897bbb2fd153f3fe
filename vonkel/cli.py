"""The command line: a face over the same steps and readings as the pages."""

from __future__ import annotations

import json
import os
import sys
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any

import typer

from .core.errors import BadFile, BadParameters, NotFound, StoreTrouble, VonkelError

app = typer.Typer(
    no_args_is_help=True,
    add_completion=False,
    help="Rig characters: joints, limbs, skin, trials.",
    pretty_exceptions_enable=False,
)

Folder = Annotated[Path, typer.Option("--store", help="the folder that holds the store", envvar="VONKEL_STORE")]
HOME = Path.home() / ".vonkel"


def _out(value: Any) -> None:
    typer.echo(json.dumps(value, indent=1, ensure_ascii=False))


def _workshop(folder: Path):  # type: ignore[no-untyped-def]
    from .workshop import Workshop

    return Workshop(folder)


def _bytes(path: Path) -> bytes:
    """A file's bytes.  Raises NotFound, and BadFile where it can't be read."""
    from .core.formats.beside import file_bytes

    if not path.is_file():
        raise NotFound(f"There is no file {path}.", "", "Check the path.")
    return file_bytes(path)


def _beside(path: Path) -> Mapping[str, bytes]:
    from .core.formats.beside import Beside

    return Beside(path)


def _written(path: Path, data: bytes | str) -> None:
    """Write a file.  Raises BadParameters where that can't be done."""
    try:
        path.write_bytes(data if isinstance(data, bytes) else data.encode())
    except OSError as error:
        raise BadParameters(f"{path} can't be written: {error.strerror}.", "", "Choose another place.") from None


def _read(path: Path):  # type: ignore[no-untyped-def]
    """A character from a mesh, a rigged .glb file, or a whole character's (.vonkel)."""
    from .core.formats import read_character
    from .workshop.package import ENDING, opened

    if path.suffix.lower() == ENDING:
        return opened(_bytes(path), str(path)).last
    return read_character(path.name, _bytes(path), beside=_beside(path))


@app.command()
def serve(
    port: int = 8321, host: Annotated[str, typer.Option(help="a loopback address")] = "127.0.0.1", store: Folder = HOME,
    demo: Annotated[bool, typer.Option("--demo", help="put the demo characters into an empty store")] = False,
) -> None:  # fmt: skip
    """Start the pages on this machine."""
    from .web.server import serve as run

    run(store, host, port, demo)


@app.command()
def new(mesh: Path, name: str = "", store: Folder = HOME) -> None:
    """Bring a mesh, or a whole character from its file, in as a new character; prints its number."""
    number = _workshop(store).bring_in(mesh.name, _bytes(mesh), name, _beside(mesh))
    _out({"character": number, "name": name or mesh.stem})


@app.command()
def apply(
    what: Annotated[str, typer.Argument(help="a recipe (file or built-in name), or a step's name")],
    character: Annotated[int, typer.Option(help="number of a stored character")] = 0,
    model: Annotated[Path | None, typer.Option(help="a mesh file to work on, without any store")] = None,
    params: Annotated[str, typer.Option(help="a step's parameters as JSON")] = "{}",
    out: Annotated[Path | None, typer.Option(help="write the rig here as .glb")] = None,
    report: Annotated[Path | None, typer.Option(help="write counts, findings and trials here as JSON")] = None,
    store: Folder = HOME,
) -> None:
    """Apply one step, or a recipe of steps, to a stored character or to a mesh file.

    Exit code 1 where a plan was laid and joints were not found, are empty, stacked, outside or crossed; what was made is
    written all the same.
    """
    from .steps import STEPS, load_recipe
    from .steps.recipe import Recipe, RecipeStep, run_recipe

    try:
        given = json.loads(params)
    except ValueError as error:
        raise BadParameters(f"--params is not JSON: {error}.", "", 'Write it as {"joint": "head"}.') from None
    if not isinstance(given, dict):
        raise BadParameters("--params must be a JSON object.")
    recipe = Recipe(name=what, steps=[RecipeStep(step=what, params=given)]) if what in STEPS else load_recipe(what)
    times: dict[str, float] = {}
    if model is None and not character:
        raise BadParameters("Say what to work on.", "", "Give --model FILE or --character NUMBER.")
    if model is not None:
        start = time.perf_counter()
        made = _read(model)
        times["read"] = time.perf_counter() - start
        for i, s in enumerate(recipe.steps):
            start = time.perf_counter()
            made, sentence = run_recipe(made, recipe.model_copy(update={"steps": [s]}))
            times[f"{i + 1} {s.step}"] = time.perf_counter() - start
            typer.echo(sentence[0], err=True)
    else:
        workshop = _workshop(store)
        start = time.perf_counter()
        workshop.run_recipe(character, recipe)
        times["recipe"] = time.perf_counter() - start
        made = workshop.character(character)
    _deliver(made, out, report, times)
    if any(s.step in ("joints.lay_plan", "joints.lay_own") for s in recipe.steps):
        _accept(made)


def _accept(made: Any) -> None:
    """Say what of the joints can't be right; exit code 1 where there is any.  What was made is written all the same."""
    from .core.plans import LOST, SURE, acceptance, boneless

    lost = [j.name for j in made.joints if j.doubt >= LOST]
    doubtful = [j.name for j in made.joints if SURE <= j.doubt < LOST]
    faults = acceptance(made)
    for fault in faults:
        typer.echo(f"{fault.kind}: {', '.join(fault.joints)}", err=True)
    for part in boneless(made):
        typer.echo(f"no bone: beyond {part.joint}, at {', '.join(f'{x:.2f}' for x in part.place)} m", err=True)
    if doubtful:
        typer.echo(f"look here: {', '.join(doubtful)}", err=True)
    if lost:
        typer.echo(f"not found: {', '.join(lost)}", err=True)
    if faults or lost:
        raise typer.Exit(1)


def _deliver(made: Any, out: Path | None, report: Path | None, times: dict[str, float]) -> None:
    from .core.handover import written
    from .readings import READINGS
    from .readings import report as write_report
    from .readings.report import counts

    if out is not None:
        start = time.perf_counter()
        _written(out, written(made, ".glb"))
        times["export"] = time.perf_counter() - start
    if report is not None:
        start = time.perf_counter()
        cards = READINGS["trials"].read(made) if made.skin else []
        times["trials"] = time.perf_counter() - start
        _written(report, json.dumps(write_report(made, cards, times), indent=1, ensure_ascii=False) + "\n")
    _out({"character": made.name, "counts": counts(made), "times_s": {k: round(v, 3) for k, v in times.items()}})


def _subject(file_or_number: str, store: Path):  # type: ignore[no-untyped-def]
    if file_or_number.isdigit() and not Path(file_or_number).exists():
        return _workshop(store).character(int(file_or_number))
    return _read(Path(file_or_number))


@app.command()
def trial(
    subjects: Annotated[
        list[str], typer.Argument(help="rigged .glb or .vonkel files, folders of them, or stored characters' numbers")
    ],
    store: Folder = HOME,
    limits: Annotated[
        Path | None, typer.Option(help="JSON with what the trials must keep: exit code 1 when they don't")
    ] = None,
    sweeps: Annotated[bool, typer.Option(help="turn every joint through its freedom, too")] = False,
    page: Annotated[
        Path | None, typer.Option(help="write a page with pictures and curves here; a folder for several")
    ] = None,
    table: Annotated[Path | None, typer.Option(help="write the raw figures here as CSV; a folder for several")] = None,
    jobs: Annotated[int, typer.Option(min=0, help="how many characters at a time; 0: one for each core")] = 0,
    scheduler: Annotated[
        str,
        typer.Option(help="address of a Dask scheduler: its workers try the characters (install the extra “studio”)"),
    ] = "",
) -> None:
    """Run the trials and print the cards with raw figures, worst first.  Exit code 1 when limits are broken."""
    from .readings.guard import parse_limits

    kept = None
    if limits is not None:
        kept = parse_limits(_bytes(limits), str(limits))
    named = _subjects(subjects)
    several = len(named) > 1
    for folder in (page, table) if several else ():
        if folder is not None:
            folder.mkdir(parents=True, exist_ok=True)
    todo = [(n, store, sweeps, page is not None) for n in named]
    made = _tried_elsewhere(todo, scheduler) if scheduler else _tried_all(todo, jobs)
    for name, (_, cards) in zip(named, made, strict=True):
        if page is not None and name.isdigit() and not Path(name).exists():  # as the page's own runs do
            _workshop(store).keep_trials(int(name), cards)
    broken = {}
    for name, (told, cards) in zip(named, made, strict=True):
        broken[name] = _guarded(told, cards, kept, name, several, page, table)
    plain = {
        n: [{k: v for k, v in c.items() if k != "picture"} for c in cards]
        for n, (_, cards) in zip(named, made, strict=True)
    }
    _out(plain if several else plain[named[0]])
    for name, lines in broken.items():
        for line in lines or ():
            typer.echo(f"{name}: {line}" if several else line, err=True)
    if any(broken.values()):
        raise typer.Exit(1)


def _subjects(given: list[str]) -> list[str]:
    """What to try: files and numbers as they are, a folder's rigged files in order."""
    out: list[str] = []
    for one in given:
        folder = Path(one)
        if folder.is_dir():
            found = sorted(str(p) for p in folder.iterdir() if p.suffix.lower() in (".glb", ".gltf", ".vonkel"))
            if not found:
                raise BadFile("No rigged file is in the folder.", one, "Put .glb files in it.")
            out += found
        else:
            out.append(one)
    return out


def _tried_all(
    todo: list[tuple[str, Path, bool, bool]], jobs: int
) -> list[tuple[dict[str, Any], list[dict[str, Any]]]]:
    jobs = jobs or os.cpu_count() or 1
    if jobs == 1 or len(todo) < 2:
        return [_tried(one) for one in todo]
    from concurrent.futures import ProcessPoolExecutor
    from multiprocessing import get_context

    with ProcessPoolExecutor(min(jobs, len(todo)), mp_context=get_context("spawn")) as pool:
        return list(pool.map(_tried, todo))


def _tried_elsewhere(
    todo: list[tuple[str, Path, bool, bool]], scheduler: str
) -> list[tuple[dict[str, Any], list[dict[str, Any]]]]:
    """The same on a cluster's workers, which need Vonkel and nothing of this machine: each is sent its character whole."""
    try:
        import distributed
    except ImportError:
        raise StoreTrouble(
            "Dask isn't installed.", "--scheduler", 'Install it: pip install "vonkel[studio]".'
        ) from None
    dask: Any = distributed
    try:
        client = dask.Client(scheduler, timeout="10s")
    except (OSError, ValueError, TimeoutError):
        raise BadParameters(
            "No scheduler answers there.", scheduler, "Give its address, such as tcp://host:8786."
        ) from None
    with client:
        asked = [
            client.submit(_tried_whole, _subject(n, store), sweeps, pictures, key=f"trial-{i}-{n}", pure=False)
            for i, (n, store, sweeps, pictures) in enumerate(todo)
        ]
        return [tuple(one) for one in client.gather(asked)]


def _tried_whole(character: Any, sweeps: bool, pictures: bool) -> tuple[dict[str, Any], list[dict[str, Any]]]:
    """What is told of a character that is at hand, and its cards."""
    from .core.trials import run_trials
    from .readings.trial_page import told_of

    cards = run_trials(character, pictures=pictures, with_sweeps=sweeps)
    return told_of(character), [c.as_dict(with_picture=pictures) for c in cards]


def _tried(what: tuple[str, Path, bool, bool]) -> tuple[dict[str, Any], list[dict[str, Any]]]:
    """What is told of a character, and its cards, with pictures where they are wanted."""
    name, store, sweeps, pictures = what
    return _tried_whole(_subject(name, store), sweeps, pictures)


def _guarded(
    told: dict[str, Any], cards: list[dict[str, Any]], kept: Any, name: str, several: bool, page: Path | None, table: Path | None
) -> list[str]:  # fmt: skip
    """What breaks the limits; page and table are written on the way."""
    from .readings.guard import breaches
    from .readings.trial_page import trial_page, trial_table

    broken = breaches(cards, kept) if kept is not None else None
    stem = Path(name).stem
    if page is not None:
        _written(page / f"{stem}.html" if several else page, trial_page(told, cards, broken))
    if table is not None:
        _written(table / f"{stem}.csv" if several else table, trial_table(cards))
    return broken or []


@app.command()
def play(
    subject: Annotated[str, typer.Argument(help="a rigged .glb or .vonkel file, or a stored character's number")],
    motion: Annotated[Path, typer.Argument(help="a .bvh or .glb file with a motion, of any skeleton")],
    out: Annotated[Path, typer.Option(help="where the corrected motion goes: .bvh, or .glb with the rig")],
    matches: Annotated[Path | None, typer.Option(help="JSON: our joint → theirs, in place of what is found")] = None,
    plant: Annotated[bool, typer.Option(help="feet that stand there stand here")] = True,
    travel: Annotated[bool, typer.Option(help="the figure goes where that one goes")] = True,
    rate: Annotated[float, typer.Option(min=0, max=240, help="frames a second; 0: as the motion has them")] = 0.0,
    store: Folder = HOME,
) -> None:
    """Send a motion through the rig: feet planted, springs and whatever else it solves added; what comes out is written down."""
    from .core.formats import read_motion
    from .core.handover import written
    from .core.retargeting import matched
    from .core.retargeting.feet import kept
    from .steps.motion import bringing
    from .steps.registry import apply_step

    character = _subject(subject, store)
    if character.joints and not character.kits:  # a .glb brings joints alone
        character, _ = apply_step(character, "limbs.outfit", {})
    capture = read_motion(motion.name, _bytes(motion), _beside(motion))
    found = {m.joint: m.source for m in matched(character, capture.skeleton)}
    if matches is not None:
        try:
            found = {str(k): str(v) for k, v in json.loads(_bytes(matches)).items()}
        except (ValueError, AttributeError):
            raise BadFile(
                "The matches are no JSON of names.", str(matches), 'Write {"hips": "Hips"}, for instance.'
            ) from None
    character = character.with_(rate=rate or min(max(round(capture.rate), 1), 240), clips=())
    made, sentence = apply_step(character, "motion.bring", bringing(motion.stem[:60], capture, found, plant, travel))
    _written(out, written(made, out.suffix.lower()))
    _out(
        {
            "motion": made.clips[-1].name, "said": sentence, "notes": list(capture.notes), "matches": found,
            "feet": [{"foot": k.foot, "stands": round(k.share, 4), "slides_of_leg": round(k.slid, 6)} for k in kept(made, made.clips[-1].name)],
        }
    )  # fmt: skip


@app.command("stand-in")
def stand_in(
    device: Annotated[str, typer.Argument(help="suit: a capture suit, in BVH; face: a face camera, in lines of JSON")],
    port: Annotated[int, typer.Option(min=0, max=65535, help="0: the device's usual one")] = 0,
) -> None:
    """Play a made-up performance on a port of this machine, as a capture suit or a face camera would; Ctrl-C ends it."""
    from .standins import FACE_PORT, SUIT_PORT, face_lines, serve, suit_lines
    from .standins.performers import RATE

    if device not in ("suit", "face"):
        raise BadParameters(f"There is no stand-in “{device}”.", "stand-in", "There are: suit, face.")
    at = port or (SUIT_PORT if device == "suit" else FACE_PORT)
    _out({"device": device, "port": at})
    if device == "suit":
        serve(suit_lines, at, RATE, lambda line: line[:1].isdigit() or line[:1] == "-")
    else:
        serve(face_lines, at, RATE, lambda line: True)


@app.command()
def check(
    subject: Annotated[str, typer.Argument(help="a mesh or rigged .glb, or a stored character's number")],
    store: Folder = HOME,
) -> None:
    """Print all findings.  Exit code 1 when something must be mended."""
    from .readings import findings
    from .readings.report import listed

    found = findings(_subject(subject, store))
    _out(listed(found))
    if any(f.level == "must" for f in found):
        raise typer.Exit(1)


@app.command()
def order(
    subject: Annotated[str, typer.Argument(help="a rigged .glb or a character's number")], store: Folder = HOME
) -> None:
    """Print the rig as a list, top to bottom: what each line reads and writes, and what it costs in microseconds."""
    from .readings import READINGS

    _out(READINGS["order"].read(_subject(subject, store)))


@app.command()
def export(
    character: int, out: Path, store: Folder = HOME,
    names: Annotated[str, typer.Option(help="joint names in the .glb: hanim, or a pattern such as {side}_{part}{n}")] = "",
) -> None:  # fmt: skip
    """Write a stored character in one of the formats that `vonkel formats` lists, whole with its ledger as .vonkel, or its
    shapes as .zip, an .obj each."""
    from .core.handover import written
    from .core.handover.shapes import shape_meshes
    from .core.joints.names import joint_names

    workshop = _workshop(store)
    made = workshop.character(character)
    if out.suffix.lower() == ".vonkel":
        data = workshop.pack(character)
    elif out.suffix.lower() == ".zip":
        data = shape_meshes(made)
    else:
        data = written(made, out.suffix, joint_names(made, names))
    _written(out, data)
    _out({"written": str(out), "bytes": out.stat().st_size})


@app.command()
def formats() -> None:
    """List the formats: what can be brought in, and what a character can be written as."""
    from .core.formats import FORMATS

    _out(
        [
            {"ending": e, "about": f.title, "reads": f.read is not None, "writes": f.write is not None}
            for e, f in FORMATS.items()
        ]
    )


@app.command()
def plan(
    character: int, out: Path, name: str = "", store: Folder = HOME,
    kits: Annotated[bool, typer.Option(help="with the kits that are on it")] = True,
) -> None:  # fmt: skip
    """Save a stored character's skeleton as a plan, to be laid into other meshes by the step joints.lay_own."""
    from .core.plans import save_plan

    made = _workshop(store).character(character)
    _written(out, save_plan(made, name or made.name, kits).model_dump_json(indent=1) + "\n")
    _out({"written": str(out), "joints": len(made.joints)})


@app.command()
def steps() -> None:
    """List every step with the JSON schema of its parameters."""
    from .steps import STEPS

    _out(
        [
            {"name": k.name, "about": k.about, "long": k.long, "params": k.params.model_json_schema()}
            for k in STEPS.values()
        ]
    )


@app.command()
def kits() -> None:
    """List every kit with its roles and the JSON schema of its options."""
    from .core.rig.kits import KINDS

    _out(
        [
            {
                "kind": k.kind, "about": k.about, "options": k.options.model_json_schema(),
                "roles": {r: {"least": a, "most": b, "about": t} for r, (a, b, t) in k.roles.items()},
            }
            for k in KINDS.values()
        ]
    )  # fmt: skip


@app.command()
def measures() -> None:
    """List what the trials measure, and what would just pass."""
    from .core.trials.measures import MEASURES

    _out(
        [
            {"key": m.key, "title": m.title, "unit": m.unit, "limit": m.limit, "source": m.source}
            for m in MEASURES.values()
        ]
    )


@app.command()
def bindings() -> None:
    """List the ways to bind a skin, for skin.bind's `by`."""
    from .core.skin.bind import BINDINGS

    _out([{"by": n, "title": b.title, "about": b.about} for n, b in BINDINGS.items()])


@app.command()
def read(
    reading: str,
    subject: Annotated[str, typer.Argument(help="a rigged .glb, a mesh, or a stored character's number")],
    store: Folder = HOME,
) -> None:
    """Write what one of the readings tells of a character."""
    from .readings import READINGS

    if reading not in READINGS:
        raise BadParameters(f"There is no reading “{reading}”.", reading, f"There are: {', '.join(READINGS)}.")
    _out(READINGS[reading].read(_subject(subject, store)))


@app.command()
def plans() -> None:
    """List every plan with the JSON schema of its options."""
    from .core.plans import PLANS

    _out([{"name": n, "about": about, "options": model.model_json_schema()} for n, (about, model, _) in PLANS.items()])


def main() -> None:
    """Run the command line; refusals print one line and set the exit code."""
    try:
        code = app(standalone_mode=False)
        sys.exit(code if isinstance(code, int) else 0)  # typer.Exit arrives as a plain number here
    except VonkelError as error:
        typer.echo(f"vonkel: {error}", err=True)
        sys.exit(error.exit_code)
    except typer.Abort:
        sys.exit(130)
    except Exception as error:
        import click

        if isinstance(error, click.ClickException):
            error.show()
            sys.exit(2)
        if isinstance(error, click.exceptions.Exit):
            sys.exit(error.exit_code)
        raise


if __name__ == "__main__":
    main()
