"""The command line: the same abilities without a browser, on the same data folder, also while the server runs."""

import json
import os
import socket
import sys
import threading
import time
import webbrowser
from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from kovel.core.commands import COMMANDS, parameters
from kovel.core.rate import Rate
from kovel.core.seams import seams
from kovel.core.story import Refused
from kovel.core.timecode import TimeError, parse_entry, running
from kovel.media.files import Unusable
from kovel.store import jobs, projects, recordings, stories, subclips
from kovel.store.projects import Invalid, Missing
from kovel.store.recordings import Recording
from kovel.store.stories import Stale
from kovel.work.data import Data, default_folder
from kovel.work.foreman import Foreman
from kovel.work.intake import bring_in, files_in, start_render, take_words, transcript

KNOWN = (Invalid, Missing, Refused, Stale, Unusable, TimeError)


class Group(click.Group):
    """Errors of ours are told in one line; nothing an editor types brings a traceback."""

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except KNOWN as e:
            raise click.ClickException(str(e)) from None


data_option = click.option(
    "--data", "folder", type=click.Path(path_type=Path), help="Data folder (default: $KOVEL_DATA or the user's data directory)."
)
json_option = click.option("--json", "as_json", is_flag=True, help="Answer as JSON.")
project_option = click.option("--project", "-p", "project_name", help="Project, by name or number (default: the only one).")


def _data(folder: Path | None) -> Data:
    return Data(folder or default_folder())


def _project(data: Data, name: str | None) -> projects.Project:
    if name:
        return projects.find(data.db, name)
    rows = [p for p in projects.listing(data.db) if not p.archived]
    if len(rows) == 1:
        return rows[0]
    raise Missing(
        "Say which project: --project NAME. `kovel list` shows them."
        if rows
        else "There is no project yet. `kovel import --new NAME FILE...` makes one."
    )


def _out(as_json: bool, value: Any, text: str) -> None:
    click.echo(json.dumps(value, ensure_ascii=False) if as_json else text)


def _recording(data: Data, project: int, name: str) -> Recording:
    for r in recordings.of_project(data.db, project):
        if name in (r.name, str(r.id), Path(r.path).name):
            return r
    raise Missing(f"There is no recording called {name} in this project. `kovel list` shows them.")


@click.group(cls=Group, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
def main() -> None:
    """Kovel: from hours of interview to a story cut.

    `kovel demo` opens the demo project in a browser; `kovel test` runs the tests.
    """


# ---- the server


def _serve(data: Data, host: str, port: int, browser: bool, media: tuple[Path, ...], path: str = "/") -> None:
    import uvicorn

    from kovel.demo.project import FOOTAGE
    from kovel.web.app import create_app

    passphrase = os.environ.get("KOVEL_PASSPHRASE") or None
    local = host in ("127.0.0.1", "localhost", "::1")
    if not local and not passphrase:
        raise click.ClickException("Open to other machines, Kovel needs a passphrase: set KOVEL_PASSPHRASE and start again.")
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    with socket.socket(family) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError:
            raise click.ClickException(
                f"Port {port} is taken, perhaps by another Kovel. Choose another: --port {port + 1}"
            ) from None
        port = probe.getsockname()[1]
    roots = [
        Path.home(),
        FOOTAGE,
        *(m.expanduser().resolve() for m in media),
        *(p for p in (Path("/media"), Path("/mnt"), Path("/Volumes")) if p.is_dir()),
    ]
    hosts = set() if local else {host, socket.gethostname()}
    address = f"http://{'127.0.0.1' if host == '0.0.0.0' else f'[{host}]' if ':' in host else host}:{port}{path}"
    app = create_app(data, roots, hosts=hosts, passphrase=None if local and not passphrase else passphrase)
    server = uvicorn.Server(
        uvicorn.Config(app, host=host, port=port, log_level="warning", access_log=False, timeout_graceful_shutdown=2)
    )

    def announce() -> None:
        while not server.started:
            if server.should_exit:
                return
            time.sleep(0.02)
        click.echo(f"Kovel is at {address}   (data in {data.root}; Ctrl-C ends it)")
        sys.stdout.flush()
        if browser and (sys.platform == "darwin" or os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")):
            webbrowser.open(address)

    threading.Thread(target=announce, daemon=True).start()
    server.run()


def server_options(f: Callable) -> Callable:
    for o in (
        click.option(
            "--media",
            type=click.Path(path_type=Path),
            multiple=True,
            help="A further folder recordings may be brought in from.",
        ),
        click.option("--no-browser", is_flag=True, help="Do not open a browser."),
        click.option(
            "--host", default="127.0.0.1", show_default=True, help="Other than this machine's own needs KOVEL_PASSPHRASE."
        ),
        click.option("--port", default=8463, show_default=True),
        data_option,
    ):
        f = o(f)
    return f


@main.command()
@server_options
def serve(folder: Path | None, port: int, host: str, no_browser: bool, media: tuple[Path, ...]) -> None:
    """Start Kovel and print its address."""
    _serve(_data(folder), host, port, not no_browser, media)


@main.command()
@server_options
def demo(folder: Path | None, port: int, host: str, no_browser: bool, media: tuple[Path, ...]) -> None:
    """Start with the demo project (its own data folder unless --data is given)."""
    from kovel.demo.project import ensure

    data = Data(folder or default_folder().with_name("kovel-demo"))
    project = ensure(data)
    open_jobs = [j.id for j in jobs.in_state(data.db, "waiting", "working")]
    if open_jobs:
        click.echo("Kovel: preparing the demo footage, once (about a minute) ...", err=True)
        _wait(data, open_jobs, most=120)
    _serve(data, host, port, not no_browser, media, f"/p/{project}/story")


# ---- recordings


@main.command("list")
@data_option
@project_option
@json_option
def list_(folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Projects; with --project its recordings and subclips."""
    data = _data(folder)
    if not project_name:
        rows = projects.listing(data.db)
        value = [
            {"id": p.id, "name": p.name, "rate": str(p.rate), "width": p.width, "height": p.height, "archived": p.archived}
            for p in rows
        ]
        return _out(
            as_json,
            value,
            "\n".join(f"{p.id:>4}  {p.name}  {p.rate} fps  {p.width}x{p.height}" for p in rows) or "No projects yet.",
        )
    p = projects.find(data.db, project_name)
    latest = jobs.latest_of_recordings(data.db, p.id)
    recs = recordings.of_project(data.db, p.id)
    value = {
        "recordings": [
            {
                "id": r.id,
                "name": r.name,
                "kind": r.kind,
                "path": r.path,
                "rate": str(r.rate),
                "frames": r.frames,
                "ready": r.ready,
                "state": latest[r.id].state if r.id in latest else "",
            }
            for r in recs
        ],
        "subclips": [
            {
                "id": c.id,
                "recording": c.recording,
                "name": c.name,
                "start": c.start,
                "length": c.length,
                "verdict": c.verdict,
                "tags": c.tags,
            }
            for c in subclips.of_project(data.db, p.id)
        ],
    }
    text = [
        f"{r.id:>4}  {r.name}  {r.kind}  {'ready' if r.ready else latest[r.id].state if r.id in latest else 'not prepared'}"
        for r in recs
    ]
    text += [f"      {c['id']:>4}  {c['name']}  {c['start']}+{c['length']}" for c in value["subclips"]]
    return _out(as_json, value, "\n".join(text) or "No recordings yet.")


@main.command("import")
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@data_option
@project_option
@click.option("--new", help="Make a project of this name first.")
@click.option("--rate", default="25", help="Its frames a second.", show_default=True)
@click.option("--size", default="1920x1080", help="Its picture size.", show_default=True)
@click.option("--kind", default="", help="interview, b-roll, sound, music or still (default: a guess).")
@click.option(
    "--words",
    type=click.Path(path_type=Path, exists=True),
    help="Transcript with times for one recording: WebVTT, SRT or JSON.",
)
@click.option("--no-wait", is_flag=True, help="Do not wait until they are prepared.")
@json_option
def import_(
    folder: Path | None,
    files: tuple[Path, ...],
    project_name: str | None,
    new: str | None,
    rate: str,
    size: str,
    kind: str,
    words: Path | None,
    no_wait: bool,
    as_json: bool,
) -> None:
    """Bring recordings (files or folders) into a project and prepare them."""
    data = _data(folder)
    p = projects.create(data.db, new, rate, size) if new else _project(data, project_name)
    made, bad = [], []
    for path in (f for given in files for f in (files_in(given.resolve()) if given.exists() else [given])):
        try:
            made.append(bring_in(data, p.id, path.resolve(), kind=kind))
        except KNOWN as e:
            bad.append(str(e))
    if words and len(made) == 1:
        bad += take_words(data, made[0], words.name, words.read_text(errors="replace"))[1]
    if made and not no_wait:
        done = _wait(
            data,
            [j.id for j in jobs.latest_of_recordings(data.db, p.id).values() if j.recording in {r.id for r in made}],
            quiet=as_json,
        )
        bad += [j.message for j in done if j.state == "failed"]
    value = {
        "project": p.id,
        "recordings": [{"id": r.id, "name": r.name, "ready": recordings.get(data.db, r.id).ready} for r in made],
        "refused": bad,
    }
    _out(as_json, value, "\n".join([*(f"{r.name}: in {p.name} as number {r.id}" for r in made), *bad]))
    if not made:
        sys.exit(1)


def _wait(data: Data, ids: list[int], quiet: bool = False, most: float = float("inf")) -> list[jobs.Job]:
    """Until these jobs are over, or `most` seconds have passed. If no running Kovel looks after the folder, this process does meanwhile."""
    foreman = Foreman(data)
    own = foreman.start()
    end = time.monotonic() + most
    try:
        while True:
            rows = [jobs.get(data.db, i) for i in ids]
            if not quiet and sys.stderr.isatty():
                left = max((j.seconds_left or 0 for j in rows), default=0)
                click.echo(
                    f"\r{sum(j.progress for j in rows) / max(1, len(rows)):.0%}{f', {left} s left' if left else ''}   ",
                    nl=False,
                    err=True,
                )
            if all(j.state in ("done", "failed", "cancelled") for j in rows) or time.monotonic() > end:
                if not quiet and sys.stderr.isatty():
                    click.echo("\r", nl=False, err=True)
                return rows
            time.sleep(0.1)
            if not own:
                own = foreman.start()  # the server may have ended meanwhile
    finally:
        if own:
            foreman.stop()


def _frame(text: str, rate: Rate, now: int = 0) -> int:
    return parse_entry(text, rate, now=now)


@main.command()
@click.argument("recording")
@click.argument("start")
@click.argument("end")
@click.option("--name", default="")
@click.option("--note", default="")
@click.option("--tags", default="", help="With commas between.")
@click.option("--verdict", default="keep", help="keep, maybe or drop.", show_default=True)
@data_option
@project_option
@json_option
def log(
    recording: str,
    start: str,
    end: str,
    name: str,
    note: str,
    tags: str,
    verdict: str,
    folder: Path | None,
    project_name: str | None,
    as_json: bool,
) -> None:
    """Keep START to END of a recording as a subclip. Times as typed: 3:15, 1.5s, 00:00:03:15; END may be +12."""
    data = _data(folder)
    p = _project(data, project_name)
    r = _recording(data, p.id, recording)
    a = _frame(start, p.rate)
    c = subclips.add(data.db, r.id, a, _frame(end, p.rate, a), name=name, note=note, tags=tags, verdict=verdict)
    _out(
        as_json,
        {"id": c.id, "name": c.name, "recording": r.id, "start": c.start, "length": c.length},
        f"Kept “{c.name}” as number {c.id}.",
    )


@main.command()
@click.argument("words", nargs=-1, required=True)
@data_option
@project_option
@json_option
def search(words: tuple[str, ...], folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Sentences in which all WORDS were said. A part in "quotes" stands together; a word with * at its end begins so."""
    data = _data(folder)
    p = _project(data, project_name)
    names = {r.id: r.name for r in recordings.of_project(data.db, p.id)}
    asked = " ".join(f'"{w}"' if " " in w and '"' not in w else w for w in words)
    rows = recordings.search(data.db, p.id, asked)
    plain = [f.text.replace("\x02", "").replace("\x03", "") for f in rows]
    value = [
        {
            "recording": f.recording,
            "name": names[f.recording],
            "start": f.start / 48000,
            "end": f.end / 48000,
            "speaker": f.speaker,
            "text": t,
        }
        for f, t in zip(rows, plain, strict=True)
    ]
    lines = [
        f"{names[f.recording]}  {running(p.rate.sample_to_frame(f.start), p.rate)}  {f.speaker}: {t}"
        for f, t in zip(rows, plain, strict=True)
    ]
    _out(as_json, value, "\n".join(lines) or "Nobody says that in this project.")


@main.command()
@click.argument("recording")
@click.argument("kind", type=click.Choice(["vtt", "srt", "json"]))
@click.option("--out", type=click.Path(path_type=Path), help="File to write (default: standard output).")
@data_option
@project_option
def words(recording: str, kind: str, out: Path | None, folder: Path | None, project_name: str | None) -> None:
    """The transcript of a recording as WebVTT, SRT or JSON."""
    data = _data(folder)
    r = _recording(data, _project(data, project_name).id, recording)
    body = transcript(recordings.words(data.db, r.id), kind)
    if out:
        out.write_text(body)
        click.echo(f"{out} written.")
    else:
        click.echo(body, nl=False)


# ---- the story


@main.group()
def story() -> None:
    """The story: show, add, cover, edit, undo, redo."""


def _told(data: Data, as_json: bool, kept: stories.Kept, done: Any) -> None:
    value = {
        "revision": kept.revision,
        "length": kept.story.length,
        "did": done.did,
        "notes": list(done.notes),
        "made": list(done.made),
    }
    _out(as_json, value, "\n".join([done.did, *(f"  {n}" for n in done.notes)]))


def story_options(f: Callable) -> Callable:
    return data_option(project_option(json_option(f)))


@story.command("show")
@story_options
def story_show(folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Pieces, seams and covers as they stand."""
    data = _data(folder)
    p = _project(data, project_name)
    kept = stories.load(data.db, stories.first_of(data.db, p.id))
    rows = {r.id: r for r in recordings.of_project(data.db, p.id)}
    s = kept.story
    kinds = {x.at: x.kind for x in seams(s, {i: r.source for i, r in rows.items()})}
    pieces = [
        {"id": q.id, "at": at, "recording": q.source, "start": q.start, "length": q.length, "seam": kinds.get(at)}
        for at, q in zip(s.starts, s.pieces, strict=False)
    ]
    covers = [
        {"id": c.id, "at": a, "recording": c.source, "start": c.start, "length": c.length, "lane": c.lane}
        for a, _, c in s.spans
    ]
    loose = [{"id": c.id, "recording": c.source, "length": c.length} for c in s.loose]
    text = [
        f"{running(q['at'], s.rate):>7}  piece {q['id']:<4} {rows[q['recording']].name if q['recording'] else 'space'}  {q['length']} frames{'  (' + q['seam'] + ')' if q['seam'] else ''}"
        for q in pieces
    ]  # type: ignore[arg-type, index]
    text += [
        f"{running(c['at'], s.rate):>7}  cover {c['id']:<4} {rows[c['recording']].name}  {c['length']} frames, lane {c['lane']}"
        for c in covers
    ]
    text += [f"  loose  cover {c['id']:<4} {rows[c['recording']].name}" for c in loose]
    _out(
        as_json,
        {
            "revision": kept.revision,
            "length": s.length,
            "rate": str(s.rate),
            "pieces": pieces,
            "covers": covers,
            "loose": loose,
        },
        "\n".join(text) or "The story is empty.",
    )


@story.command("add")
@click.argument("subclip", nargs=-1, required=True)
@click.option("--at", help="Insert at this story time instead of at the end.")
@story_options
def story_add(subclip: tuple[str, ...], at: str | None, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Add subclips (by name or number) at the end of the story, or at a time."""
    data = _data(folder)
    p = _project(data, project_name)
    sid = stories.first_of(data.db, p.id)
    for name in subclip:
        c = next((c for c in subclips.of_project(data.db, p.id) if name in (c.name, str(c.id))), None)
        if c is None:
            raise Missing(f"There is no subclip called {name}. `kovel list --project ...` shows them.")
        values: dict[str, Any] = {"source": c.recording, "start": c.start, "length": c.length}
        if at is not None:
            values["at"] = _frame(at, p.rate)
        _told(data, as_json, *stories.edit(data.db, sid, None, "insert" if at is not None else "add_at_end", values))


@story.command("cover")
@click.argument("recording")
@click.option("--at", help="Story in point.")
@click.option("--until", help="Story out point.")
@click.option("--start", help="In point in the shot.")
@click.option("--end", help="Out point in the shot.")
@click.option("--lane", type=int)
@story_options
def story_cover(
    recording: str,
    at: str | None,
    until: str | None,
    start: str | None,
    end: str | None,
    lane: int | None,
    folder: Path | None,
    project_name: str | None,
    as_json: bool,
) -> None:
    """Lay a shot over the dialogue by three points, picture only."""
    data = _data(folder)
    p = _project(data, project_name)
    values: dict[str, Any] = {"source": _recording(data, p.id, recording).id}
    values |= {k: _frame(v, p.rate) for k, v in (("at", at), ("until", until), ("start", start), ("end", end)) if v is not None}
    if lane is not None:
        values["lane"] = lane
    _told(data, as_json, *stories.edit(data.db, stories.first_of(data.db, p.id), None, "lay_cover", values))


@story.command("edit")
@click.argument("command", type=click.Choice(sorted(COMMANDS)))
@click.argument("values", nargs=-1)
@click.option("--revision", type=int, help="Refuse if the story has changed since.")
@story_options
def story_edit(
    command: str, values: tuple[str, ...], revision: int | None, folder: Path | None, project_name: str | None, as_json: bool
) -> None:
    """Any edit of the core: COMMAND name=value ... Lengths and times in frames (or as typed, with a colon or s)."""
    data = _data(folder)
    p = _project(data, project_name)
    known = parameters(command)
    given: dict[str, Any] = {}
    for v in values:
        k, eq, x = v.partition("=")
        if not eq or k not in known:
            raise Invalid(f"{command} takes {', '.join(f'{n}=...' for n in known)}.")
        try:
            kind = known[k][0]
            given[k] = (
                x
                if kind is str
                else x == "true"
                if kind is bool
                else None
                if x == "none"
                else int(x)
                if x.lstrip("-").isdigit()
                else _frame(x, p.rate)
            )
        except ValueError as e:
            raise Invalid(f"{k}: {e}") from None
    _told(data, as_json, *stories.edit(data.db, stories.first_of(data.db, p.id), revision, command, given))


@story.command("undo")
@story_options
def story_undo(folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Take the last edit back."""
    data = _data(folder)
    _told(data, as_json, *stories.undo(data.db, stories.first_of(data.db, _project(data, project_name).id)))


@story.command("redo")
@story_options
def story_redo(folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Do again what was undone."""
    data = _data(folder)
    _told(data, as_json, *stories.redo(data.db, stories.first_of(data.db, _project(data, project_name).id)))


# ---- out


@main.command()
@click.option("--out", type=click.Path(path_type=Path), help="File to write (default: in the data folder).")
@click.option("--quality", default="high", help="high or small.", show_default=True)
@click.option("--force", is_flag=True, help="Write over an existing file.")
@data_option
@project_option
@json_option
def render(out: Path | None, quality: str, force: bool, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Render the story to MP4."""
    data = _data(folder)
    p = _project(data, project_name)
    if out and out.exists() and not force:
        raise click.ClickException(f"{out} is there already. Choose another name, or add --force.")
    job = start_render(data, stories.first_of(data.db, p.id), quality, out.resolve() if out else None)
    try:
        (done,) = _wait(data, [job.id], quiet=as_json)
    except KeyboardInterrupt:
        jobs.end(data.db, job.id, "cancelled")
        raise click.ClickException("Stopped. Nothing half made was left behind.") from None
    if done.state != "done" or done.result is None:
        raise click.ClickException(done.message or "The render was stopped.")
    _out(as_json, done.result, f"{done.result['path']}: {done.result['frames']} frames, {done.result['bytes'] / 1e6:.1f} MB")


@main.command()
@click.argument("kind", type=click.Choice(["otio", "edl"]))
@click.option("--out", type=click.Path(path_type=Path), help="File to write (default: standard output).")
@data_option
@project_option
@json_option
def export(kind: str, out: Path | None, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """The story as OpenTimelineIO or EDL."""
    import opentimelineio as otio

    from kovel.exchange import to_edl, to_otio

    data = _data(folder)
    p = _project(data, project_name)
    kept = stories.load(data.db, stories.first_of(data.db, p.id))
    rows = {r.id: r for r in recordings.of_project(data.db, p.id)}
    make = to_edl if kind == "edl" else lambda *a: otio.adapters.write_to_string(to_otio(*a), "otio_json")
    body = make(kept.story, kept.name, p, rows)
    if out:
        out.write_text(body)
        _out(as_json, {"path": str(out), "kind": kind}, f"{out} written.")
    else:
        click.echo(body, nl=False)
