"""The command line: the whole job without the web, and the commands that start the web.

Exit codes: 0 done; 1 the answer is no (a severe finding, a damaged cache); 2 input that
cannot be used; 3 the computation failed (it blew up, or the disk refused).
"""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import click

from zembrik import __version__
from zembrik.core.problem import Problem
from zembrik.remote import at


class Commands(click.Group):
    """Turns every Problem into one clear line and its exit code."""

    def invoke(self, ctx: click.Context) -> Any:
        """Run a command."""
        try:
            return super().invoke(ctx)
        except Problem as problem:
            click.echo(f"zembrik: {problem}", err=True)
            ctx.exit(2)
        except KeyboardInterrupt:
            click.echo("zembrik: stopped.", err=True)
            ctx.exit(130)


@click.group(cls=Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__)
def main() -> None:
    """Prepare, bake, review and deliver simulations. Exit codes: 0 done, 1 no, 2 unusable input, 3 failed."""


SETUP = click.argument("setup", type=click.Path(path_type=Path))
CACHE = click.argument("cache", type=click.Path(path_type=Path))
AS_JSON = click.option("--json", "as_json", is_flag=True, help="Print JSON.")


def _load(path: Path) -> tuple[Any, Any]:
    from zembrik.core.setup.assets import FolderAssets
    from zembrik.core.setup.document import read_setup

    try:
        data = path.read_bytes()
    except OSError as error:
        raise Problem(f"the setup cannot be read: {error.strerror}.", str(path)) from None
    return read_setup(data, path.name), FolderAssets(path.parent)


def _frames(text: str | None) -> tuple[int, int] | None:
    if text is None:
        return None
    import re

    match = re.fullmatch(r"(-?\d+)-(-?\d+)", text)
    if not match or int(match[2]) < int(match[1]):
        raise Problem(f"'{text}' is no range of frames.", "--frames", "Write FIRST-LAST, as in 1-96.")
    return int(match[1]), int(match[2])


@main.command()
@SETUP
@AS_JSON
def check(setup: Path, as_json: bool) -> None:
    """Compute the findings of SETUP.json; exit code 1 if one is severe."""
    from zembrik.core.findings.check import check_setup

    document, assets = _load(setup)
    found = check_setup(document, assets)
    if as_json:
        click.echo(json.dumps([f.plain() for f in found], indent=1, ensure_ascii=False))
    elif not found:
        click.echo("No findings.")
    else:
        for finding in found:
            click.echo(f"{'✕ severe' if finding.severe else '◆ look'}  {finding.station}: {finding.title}")
            click.echo(f"    {finding.text}")
            if finding.patch:
                click.echo(f"    remedy: {finding.remedy}  {json.dumps(finding.patch)}")
    sys.exit(1 if any(f.severe for f in found) else 0)


@main.command()
@SETUP
@click.option("--out", required=True, type=click.Path(path_type=Path), help="The cache's folder, NAME.zarr.")
@click.option("--frames", help="Another range of frames, FIRST-LAST.")
@click.option("--threads", default=2, show_default=True, type=click.IntRange(1, 256))
@click.option("--resume", is_flag=True, help="Continue the cache that is there.")
@click.option("--quiet", is_flag=True, help="Print only the end.")
def bake(setup: Path, out: Path, frames: str | None, threads: int, resume: bool, quiet: bool) -> None:
    """Bake SETUP.json into a cache, frame by frame; Ctrl-C keeps the frames so far."""
    from zembrik.core.bake import Progress
    from zembrik.core.bake import bake as run
    from zembrik.core.compiled import use_threads
    from zembrik.core.setup.document import parse_setup
    from zembrik.core.solver.sound import BlewUp

    document, assets = _load(setup)
    span = _frames(frames)
    if span:
        document = parse_setup({**document.document(), "frames": list(span)}, setup.name)
    use_threads(threads)

    def tell(progress: Progress) -> bool:
        if not quiet:
            note = f"frame {progress.frame}  {progress.done}/{progress.total}  {progress.seconds * 1000:.0f} ms"
            click.echo(note, err=True)
        return True

    try:
        cache = run(document, assets, out, resume, tell)
    except BlewUp as problem:
        click.echo(f"zembrik: {problem}", err=True)
        sys.exit(3)
    seconds = float(cache.figure("timing/seconds").sum())
    click.echo(f"{out}: frames {cache.first} to {cache.done}, {seconds:.2f} s of computing.")


@main.command()
@CACHE
@AS_JSON
def info(cache: Path, as_json: bool) -> None:
    """Tell what a cache holds and where it comes from."""
    from zembrik.core.cache.reader import Cache
    from zembrik.core.solver.figures import STATS

    held = Cache(cache)
    facts: dict[str, Any] = {
        "title": held.attributes["setup"]["title"],
        "frames": [held.first, held.last],
        "done": held.done,
        "fps": held.fps,
        "bodies": dict(zip(held.names, held.point_counts, strict=True)),
        "setup_hash": held.attributes["setup_hash"],
        "solver": held.attributes["solver"],
        "continued": [list(edition) for edition in held.editions[1:]],
        "bytes": held.size_bytes(),
        "seconds": round(float(held.figure("timing/seconds").sum()), 3),
        "worst": {n: float(held.figure(f"stats/{n}").max(initial=0.0)) for n in STATS if held.foreign is None},
    }
    if as_json:
        click.echo(json.dumps(facts, indent=1, ensure_ascii=False))
        return
    click.echo(
        f"{facts['title'] or cache.name}: {held.frame_count} of {held.last - held.first + 1} frames at {held.fps:g} fps"
    )
    for name, points in facts["bodies"].items():
        click.echo(f"  {name}: {points:,} points")
    click.echo(
        f"  {facts['bytes'] / 1e6:.1f} MB, {facts['seconds']:.2f} s of computing, setup {facts['setup_hash'][:12]}"
    )
    click.echo(f"  {facts['solver']}" + "".join(f"; from frame {at} on {by}" for at, by in facts["continued"]))
    for name, (unit, factor, words) in STATS.items() if held.foreign is None else ():
        click.echo(f"  at most {facts['worst'][name] * factor:.4g} {unit}: {words}")


@main.command()
@CACHE
def verify(cache: Path) -> None:
    """Read every frame of a cache and check its sums; exit code 1 if anything is missing or damaged."""
    from zembrik.core.cache.reader import Cache

    held = Cache(cache)
    damage = held.damage()
    for line in damage:
        click.echo(f"✕ {line}")
    if damage:
        click.echo(f"{len(damage)} of the cache's parts are missing or damaged.", err=True)
        sys.exit(1)
    click.echo(f"{cache}: {held.frame_count} frames, all sound.")


@main.command()
@CACHE
@click.argument("out", type=click.Path(path_type=Path))
@click.option("--unit", default="m", show_default=True, help="m, cm, mm, in or ft.")
@click.option("--up", default="y", show_default=True, help="y or z.")
@click.option("--frames", help="FIRST-LAST; all committed frames otherwise.")
@click.option("--body", "bodies", multiple=True, help="Only this body; may be given more than once.")
@click.option("--fps", type=float, help="Frames a second; as baked otherwise.")
@click.option("--angles", default="xyz", show_default=True, help="Of tracks: in which order angles turn.")
@click.option("--subdivide", default=0, show_default=True, help="Rounds of subdivision of the meshes.")
def export(
    cache: Path, out: Path, unit: str, up: str, frames: str | None, bodies: tuple[str, ...], fps: float | None,
    angles: str, subdivide: int,
) -> None:  # fmt: skip
    """Deliver a cache as OUT (glb, usdc, usda, abc, obj.zip, ply.zip, csv or json), with a manifest beside it."""
    from zembrik.core.cache.reader import Cache
    from zembrik.core.exchange.delivery import FORMATS, Order, deliver

    kind = next((f for f in FORMATS if out.name.lower().endswith(f".{f}")), None)
    if kind is None:
        raise Problem(
            "the ending names no format.", out.name, f"It must be one of {', '.join('.' + f for f in FORMATS)}."
        )
    order = Order(kind, _frames(frames), bodies, unit, up, fps, angles, subdivide)
    manifest = deliver(Cache(cache), out, order)
    first, last = manifest["frames"]
    click.echo(f"{out}: frames {first} to {last}, {manifest['bytes'] / 1e6:.1f} MB.")


@main.command("import")
@click.argument("file", type=click.Path(path_type=Path))
@click.argument("out", type=click.Path(path_type=Path))
@click.option("--unit", help="Of the file: m, cm, mm, in or ft; as it says, or metres.")
@click.option("--up", help="Of the file: y or z; as it says, or y.")
@click.option("--fps", type=float, help="Frames a second; as the file has them, or 24.")
@click.option("--first", type=int, help="Number of the first frame; as a sequence has it, or 1.")
@click.option("--part", "parts", multiple=True, help="Only this part; may be given more than once.")
def take_in(
    file: Path,
    out: Path,
    unit: str | None,
    up: str | None,
    fps: float | None,
    first: int | None,
    parts: tuple[str, ...],
) -> None:
    """Keep FILE (glTF, USD, abc, OBJ, PLY, or a zip of numbered OBJ or PLY) as a cache OUT.zarr."""
    from zembrik.core.exchange.into_cache import cache_from, rate_of
    from zembrik.core.exchange.read_any import read_contents
    from zembrik.core.exchange.sizes import declared_unit
    from zembrik.core.setup.assets import file_hash
    from zembrik.core.units import METRES_PER_UNIT

    try:
        data = file.read_bytes()
    except OSError as error:
        raise Problem(f"the file cannot be read: {error.strerror}.", str(file)) from None
    if unit not in (None, *METRES_PER_UNIT) or up not in (None, "y", "z"):
        raise Problem(f"unit '{unit}' with '{up}' up is not known.", "import", "Units are m, cm, mm, in, ft.")
    contents = read_contents(data, file.name)
    said, named = contents.unit_m, declared_unit(contents.unit_m)
    if unit is None and said is not None and named is None:
        raise Problem(f"its unit is {said:g} m, which has no name.", file.name, "Say which it is with --unit.")
    for what, given, own in (("unit", unit, named), ("up axis", up, contents.up)):
        if given is not None and own is not None and given != own:
            click.echo(f"◆ The file says its {what} is {own}; it is read as {given}, as asked.", err=True)
    unit, up = unit or named or "m", up or contents.up or "y"
    names: dict[str, str] = {}
    for path in parts or [p.path for p in contents.parts]:
        stem = contents.part(path, file.name).path.rsplit("/", 1)[-1] or file.stem
        count = sum(name == stem or name.startswith(f"{stem} ") for name in names.values())
        names[path] = stem if not count else f"{stem} {count + 1}"
    rate = fps or (rate_of(contents) if contents.first is None else None) or 24.0
    begin = first if first is not None else next((n for n in (contents.first, contents.begins) if n is not None), 1)
    cache = cache_from(contents, out, file.name, file_hash(data), unit, up, "z", rate, begin, names)
    for note in contents.notes:
        click.echo(f"◆ {note}", err=True)
    click.echo(f"{out}: {', '.join(cache.names)}, frames {cache.first} to {cache.done} at {cache.fps:g} a second.")


@main.command()
@SETUP
@CACHE
def mend(setup: Path, cache: Path) -> None:
    """Bake the damaged frames of CACHE again from its SETUP.json, and nothing else of it."""
    from zembrik.core.cache.reader import Cache
    from zembrik.core.rebake import rebake
    from zembrik.core.setup.document import parse_setup

    document, assets = _load(setup)
    held = Cache(cache)
    flaws = held.flaws()
    rebake(parse_setup({**document.document(), "frames": [held.first, held.last]}), assets, cache)
    counts = {
        "frame": sum(f.frame is not None for f in flaws),
        "mesh": sum(f.frame is None and f.body is not None for f in flaws),
        "figure": sum(f.body is None for f in flaws),
    }
    ends = {"frame": "s", "mesh": "es", "figure": "s"}
    told = [f"{n} {what}{ends[what] if n > 1 else ''}" for what, n in counts.items() if n]
    click.echo(f"{cache}: {', '.join(told) + ' written anew' if told else 'nothing to mend'}.")


@main.command()
@CACHE
@click.argument("body")
@click.option("--mm", default=1.0, show_default=True, help="How far off places may be, at any moment.")
@click.option("--deg", default=0.5, show_default=True, help="How far off turns may be, at any moment.")
@click.option("--angles", default="", help="Turns as angles in that order, as in zxy; quaternions otherwise.")
@click.option("--origin", nargs=3, type=float, default=(0.0, 0.0, 0.0), help="What it turns about, metres.")
def keys(cache: Path, body: str, mm: float, deg: float, angles: str, origin: tuple[float, float, float]) -> None:
    """Print what BODY did in CACHE as few keys: the "motion" of a setup's body."""
    from zembrik.core.cache.reader import Cache
    from zembrik.core.keys.from_cache import keyed, poses_of

    held = Cache(cache)
    found = keyed(poses_of(held, held.body_number(body)), origin, mm / 1e3, deg, angles)
    click.echo(json.dumps(found.motion))
    click.echo(
        f"{found.frames} frames: {found.keys_of_place} keys of place, {found.keys_of_turn} of turn; at most "
        f"{1e3 * found.off_m:.3g} mm and {found.off_deg:.3g}° off; {1e3 * found.misfit_m:.3g} mm misfit.", err=True
    )  # fmt: skip


@main.command()
@CACHE
@click.argument("body")
@click.argument("frame", type=int)
@click.argument("out", type=click.Path(path_type=Path))
@click.option("--thickness-mm", default=0.0, show_default=True, help="Of what was a sheet: it is closed then.")
@click.option("--rounds", default=0, show_default=True, help="Of smoothing by subdivision.")
def still(cache: Path, body: str, frame: int, out: Path, thickness_mm: float, rounds: int) -> None:
    """Write one FRAME of BODY in CACHE as an OBJ."""
    import io

    from zembrik.core.cache.layout import write_whole
    from zembrik.core.cache.reader import Cache
    from zembrik.core.exchange.obj import write_obj
    from zembrik.core.mesh.still import still_of

    held = Cache(cache)
    number = held.body_number(body)
    mesh = still_of(held.points(number, frame), held.faces(number, frame), thickness_mm / 1e3, rounds)
    text = io.BytesIO()
    write_obj(text, mesh.points, mesh.faces, body)
    try:
        write_whole(out, text.getvalue())
    except OSError as error:
        raise Problem(f"the mesh cannot be written: {error.strerror}.", str(out)) from None
    click.echo(f"{out}: {len(mesh.points):,} points, {len(mesh.faces):,} faces.")


main.add_command(at)


@main.command()
@click.option("--port", type=int, help="Serve on this port; otherwise the first free one from 8460.")
@click.option("--fresh", is_flag=True, help="Throw away the data and begin again.")
def demo(port: int | None, fresh: bool) -> None:
    """Start the database, the web server and the workers, with demo data the first time."""
    from zembrik import start

    start.demo(port, fresh)


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--without", "leave_out", multiple=True, type=click.Choice(["caches", "deliveries"]), help="Leave out.")
def backup(file: Path, leave_out: tuple[str, ...]) -> None:
    """Write database, meshes, caches and deliveries into FILE, a tar; everything may be running meanwhile."""
    from zembrik import start
    from zembrik.library.backup import back_up

    with start.at_hand() as settings:
        size = back_up(settings, file, leave_out)
    click.echo(f"{file}: {size / 1e6:.1f} MB.")


@main.command()
@click.argument("file", type=click.Path(path_type=Path, exists=True, dir_okay=False))
def restore(file: Path) -> None:
    """Bring the backup FILE back into an empty home (ZEMBRIK_HOME says where)."""
    from zembrik import start

    start.restore(file)
    click.echo(f"Restored into {start.home_folder()}. Start it with './zembrik demo'.")


TOLD = click.option("--told", is_flag=True, hidden=True, help="The database's address comes on standard input.")


@main.command()
@click.option("--host", default="127.0.0.1", show_default=True, help="The address to serve on.")
@click.option("--port", default=8460, show_default=True, type=click.IntRange(1, 65535))
@click.option("--name", "names", multiple=True, help="A host name of this server, as browsers call it.")
@click.option("--sign-in", is_flag=True, help="Ask for a password on loopback too; needed behind a proxy.")
@TOLD
def serve(host: str, port: int, names: tuple[str, ...], sign_in: bool, told: bool) -> None:
    """Run the web server alone (ZEMBRIK_HOME and ZEMBRIK_DATABASE say where everything lies)."""
    from zembrik.library.settings import settings_from_environment
    from zembrik.web.server import run

    run(settings_from_environment(told), host, port, names, sign_in)


@main.command("account")
@click.argument("name")
def make_account(name: str) -> None:
    """Make an account NAME for somebody; the password is asked for (ZEMBRIK_HOME and ZEMBRIK_DATABASE as for serve)."""
    from zembrik.library.accounts import create_account
    from zembrik.library.database import Database
    from zembrik.library.settings import settings_from_environment

    password = click.prompt("Password", hide_input=True, confirmation_prompt=True)
    database = Database(settings_from_environment())
    with database.session() as session:
        made = create_account(session, name, password).name
    click.echo(f"{made} can sign in now.")


@main.command()
@click.option("--alone", is_flag=True, help="The only worker of its queues: take over at once what a dead one left.")
@click.option("--queue", "queues", multiple=True, type=click.Choice(["bakes", "errands"]), help="Only this one.")
@TOLD
def worker(alone: bool, queues: tuple[str, ...], told: bool) -> None:
    """Run one worker (ZEMBRIK_HOME and ZEMBRIK_DATABASE say where everything lies)."""
    import logging

    from zembrik.farm.worker import run_worker
    from zembrik.library.settings import settings_from_environment
    from zembrik.library.version import refuse_other

    logging.basicConfig(format="%(asctime)s %(name)s: %(message)s", level=logging.WARNING)
    settings = settings_from_environment(told)
    refuse_other(settings)
    run_worker(settings, alone, queues)


@main.command()
def upgrade() -> None:
    """Make or bring up to date tables and folders, once, after an update (as ZEMBRIK_DATABASE and ZEMBRIK_HOME say)."""
    from zembrik.library.database import upgrade as run_migrations
    from zembrik.library.settings import settings_from_environment
    from zembrik.library.version import KNOWN, refuse_newer

    settings = settings_from_environment()
    before = refuse_newer(settings)
    settings.make_folders()
    run_migrations(settings)
    click.echo(f"The database is of edition {KNOWN[-1]} (it was {before or 'empty'}).")


if __name__ == "__main__":
    main()
